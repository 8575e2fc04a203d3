// Takes: what comes in while the song plays, sent in pieces as it is sung, kept by the server whatever becomes of this page.
import { say } from "./shell.js";

const PIECE_S = 0.5,
  TRIES = 6,
  AFTER_S = 0.45;
const token = () => /** @type {HTMLMetaElement} */ (document.querySelector("meta[name=csrf-token]")).content;
const post = (url, body, more = {}) =>
  fetch(url, { method: "POST", body, headers: { "X-CSRFToken": token() }, ...more });
const wait = (ms) => new Promise((done) => setTimeout(done, ms));

// A take that is being sent: samples gathered into pieces, numbered, each tried again until it came.
export class TakeSender {
  constructor(path, channels, rate) {
    this.path = path;
    this.channels = channels;
    this.rate = rate;
    this.number = 0;
    this.rows = [];
    this.waiting = 0;
    this.queue = Promise.resolve();
    this.trouble = "";
    this.gone = false;
    this.name = null;
  }
  async begin(about) {
    const form = new FormData();
    for (const [key, value] of Object.entries(about)) form.set(key, String(value));
    const answer = await post(`${this.path}/takes`, form),
      told = await answer.json();
    if (!answer.ok) throw new Error(told.trouble ?? "The take could not be begun.");
    this.name = told.token;
    this.flush(false);
  }
  // Float32 rows of the channels that are recorded, as they come.
  add(rows) {
    this.rows.push(rows);
    this.waiting += rows[0].length;
    if (this.name && this.waiting >= PIECE_S * this.rate) this.flush(false);
  }
  flush(last) {
    const most = Math.round(this.rate);
    while (this.name && (this.waiting >= PIECE_S * this.rate || (last && this.waiting)))
      this.send(this.take(Math.min(this.waiting, most)));
    return this.queue;
  }
  // The next frames, channels in turn.
  take(count) {
    const out = new Float32Array(count * this.channels);
    let at = 0;
    while (at < count) {
      const row = this.rows[0],
        length = Math.min(row[0].length, count - at);
      for (let c = 0; c < this.channels; c++)
        for (let i = 0; i < length; i++) out[(at + i) * this.channels + c] = row[Math.min(c, row.length - 1)][i];
      if (length === row[0].length) this.rows.shift();
      else this.rows[0] = row.map((channel) => channel.subarray(length));
      at += length;
    }
    this.waiting -= count;
    return out;
  }
  send(data) {
    const number = this.number++;
    this.queue = this.queue.then(async () => {
      for (let tries = 1; ; tries++) {
        try {
          const answer = await post(`${this.path}/takes/${this.name}/${number}`, data.buffer, {
            keepalive: data.byteLength < 60_000,
          });
          if (answer.ok) return;
          this.gone = answer.status === 404; // it stood still for too long and was kept as it was
          this.trouble = (await answer.json().catch(() => ({}))).trouble ?? "";
          if (answer.status < 500 || tries >= TRIES) return;
        } catch {
          if (tries >= TRIES) {
            this.trouble = "The server does not answer; what came until now is kept.";
            return;
          }
        }
        await wait(300 * tries);
      }
    });
  }
}

// Records over the song. `facts` gives the page's section and phrase, `field` a setting by its id, `kept(token)` shows what became of it.
export function takeRecorder({ rail, input, path, facts, field, kept, show }) {
  let now = null; // { senders, first, from, started, zero, stop }

  function ranges() {
    const told = facts(),
      scope = field("scope"),
      { player } = rail;
    if (scope === "phrase" || scope === "punch") return player.rangeOf(told.section, { bars: told.bars });
    return player.rangeOf(told.section, { around: scope === "around" ? 2 : 0 });
  }
  function picked(channels) {
    const way = field("input-channel"),
      right = channels[1] ?? channels[0];
    if (way === "right") return [[right]];
    if (way === "both") return [[channels[0], right]];
    if (way === "pair") return [[channels[0]], [right]];
    return [[channels[0]]];
  }
  async function start() {
    const { player } = rail,
      told = facts(),
      scope = field("scope"),
      context = player.context();
    await input.open(field("input-device"));
    const range = ranges(),
      count = field("count-in"),
      open = scope === "open",
      rounds = scope === "phrase" || scope === "section" || scope === "around",
      latency_s = Number(field("latency").replace(",", ".")) / 1000 || 0;
    const index = player.manifest.sections.findIndex((s) => s.id === told.section),
      sectionStart = player.startOf(index);
    const state = {
      senders: null,
      rate: context.sampleRate,
      zero: null,
      first: null,
      level: 0,
      clipped: 0,
      until: Infinity,
      open,
      frames: 0,
    };
    now = state;
    input.onBlock = (block) => {
      state.first ??= block.frame;
      const late = block.frame - state.first - state.frames; // a gap at the start is filled, so that all lies where it was sung
      const rows = picked(block.channels);
      state.senders ??= rows.map((r) => new TakeSender(path, r.length, state.rate));
      rows.forEach((row, i) => {
        if (late > 0 && late < 600 * state.rate) state.senders[i].add(row.map(() => new Float32Array(late)));
        state.senders[i].add(row);
      });
      state.frames = block.frame - state.first + block.channels[0].length;
      const top = block.channels.reduce((most, c) => c.reduce((m, x) => Math.max(m, Math.abs(x)), most), 0);
      state.level = top;
      if (top >= 0.999) state.clipped += 1;
      const over = state.zero !== null && context.currentTime > state.until;
      if (over || state.senders.some((s) => s.gone)) stop();
    };
    input.onEnd = () => {
      if (now === state) {
        say("The input was unplugged. What was sung until then is kept.");
        stop();
      }
    };
    show(state);
    player.clicking = !open;
    while (state.first === null && now === state) await wait(5); // the recording's own clock is known from its first block on
    if (open) clickOnly(state, told, latency_s, count);
    else await alongside(state, range, count, rounds, latency_s, sectionStart);
    const about = {
      section_id: told.section,
      voice: told.voice,
      rate_hz: state.rate,
      zero_s: state.zero,
      low_ticks: scope === "phrase" || scope === "punch" ? told.low : 0,
      high_ticks: scope === "phrase" || scope === "punch" ? told.high : 0,
      pass_s: rounds ? range.to - range.from : 0,
      low_s: rounds ? range.from - sectionStart : 0,
      open_end: open ? "yes" : "",
      singer: field("singer"),
      made_at: new Date().toLocaleString("sv").slice(0, 16),
      lay: scope === "punch" ? "always" : "first",
    };
    if (now !== state) return;
    state.begun = announced(state, about);
    try {
      await state.begun;
    } catch (error) {
      say(error.message);
      finish(state);
    }
  }
  async function announced(state, about) {
    for (const [i, sender] of state.senders.entries()) {
      const side = state.senders.length > 1 ? sided(about.voice, i) : about.voice;
      await sender.begin({ ...about, channels: sender.channels, voice: side });
    }
  }
  // The song plays from the range's start, after clicks or from two bars before.
  async function alongside(state, range, count, rounds, latency_s, sectionStart) {
    const { player } = rail,
      index = player.indexAt(range.from + 1e-6),
      section = player.manifest.sections[index],
      beats = section.beats[0] ?? 4;
    let from = range.from;
    if (count === "lead") {
      const bar = (section.bars[1] ?? 2) - section.bars[0];
      from = Math.max(0, range.from - 2 * bar);
    }
    if (rounds) rail.setLoop(range);
    else rail.setLoop(null);
    await player.play(from, rounds ? range : null, count === "lead" ? 0 : Number(count) * beats);
    const segment = player.segments[0];
    if (!segment) throw new Error("The song could not be made to sound; nothing was recorded.");
    const begins = segment.time + (sectionStart - segment.position);
    place(state, begins, latency_s);
    if (!rounds) state.until = segment.time + (range.to - segment.position) + latency_s + AFTER_S;
  }
  // An open end: clicks only, for as long as somebody plays.
  function clickOnly(state, told, latency_s, count) {
    const { player } = rail,
      context = player.context(),
      beat = told.bar_s / told.beats,
      lead = (count === "lead" ? 1 : Number(count)) * told.beats,
      begins = context.currentTime + 0.3 + lead * beat;
    let next = -lead;
    state.clicks = setInterval(() => {
      while (begins + next * beat < context.currentTime + 0.5) {
        player.tock(begins + next * beat, next % told.beats === 0);
        next += 1;
      }
      const bar = Math.floor((context.currentTime - begins) / told.bar_s) + 1;
      if (bar > 0) state.said = `bar ${bar}`;
    }, 100);
    place(state, begins, latency_s);
  }
  // Where in the recording the section begins: its moment on the clock, and what the sound took to come back.
  function place(state, begins, latency_s) {
    state.zero = begins + latency_s - state.first / state.rate;
  }
  const sided = (voice, index) => {
    const base = voice.replace(/ (left|right)$/, ""),
      pair = base === "lead" ? "double" : base;
    return `${pair} ${index ? "right" : "left"}`;
  };
  async function finish(state) {
    clearInterval(state.clicks);
    if (now === state) now = null;
    input.onBlock = () => {};
    rail.player.clicking = false;
    show(null);
  }
  async function stop() {
    const state = now;
    if (!state) return;
    if (!state.open && rail.player.playing) rail.player.stop();
    const senders = state.senders ?? [];
    await finish(state);
    await state.begun?.catch(() => {}); // what was sung before it was announced is sent all the same
    for (const sender of senders) {
      await sender.flush(true);
      if (sender.trouble) say(sender.trouble);
      if (sender.name && !sender.gone) await kept(sender.name);
    }
  }
  window.addEventListener("pagehide", () => {
    for (const sender of now?.senders ?? []) sender.flush(true);
  });
  return { toggle: () => (now ? stop() : start()), stop, on: () => now !== null, state: () => now };
}
