// Plays a song section by section: chunks named by content, scheduled to the sample on one clock.
// An edit swaps what sounds at the next bar; nothing is re-fetched that has not changed.
import { listeningChain } from "./listening_chain.js";

const RATE = 44100,
  AHEAD_S = 1.2,
  FADE_S = 0.006,
  START_FADE_S = 0.5;
const end = (segment) => {
  segment.ended = segment.source.context.currentTime;
  segment.source.stop();
  for (const c of segment.clicks) c.stop();
  segment.gone = true;
};

export class Player {
  constructor(onTick, onError) {
    this.onTick = onTick;
    this.onError = onError;
    this.buffers = new Map();
    this.pending = false;
    this.playing = false;
    this.loop = null;
    this.at = 0;
    this.segments = [];
    this.history = []; // what was scheduled on this page, for what was heard of it
    this.volumeDb = -12;
    this.starting = 0;
    this.listening = ""; // which layers are heard alone, left out or an octave up, as a query
    this.clicking = false;
    this.manifest = undefined;
    this.samples = undefined;
  }

  // manifest ------------------------------------------------------------------------------------------------------
  load(manifest) {
    const before = this.manifest;
    this.manifest = manifest;
    if (this.loop) this.loop = this.rangeOf(this.loop.section, this.loop); // a loop stays with its section through edits
    if (this.playing && before) this.swap();
  }
  // A loop: a section, `bars` [first, count] of it, or with `around` bars of its neighbours before and after.
  rangeOf(id, { bars = null, around = 0 } = {}) {
    const index = this.manifest.sections.findIndex((s) => s.id === id);
    if (index < 0) return null;
    const s = this.manifest.sections[index],
      last = s.bars.length - 1;
    let from = this.startOf(index),
      to = this.endOf(index);
    if (bars) {
      from += s.bars[Math.min(bars[0], last - 1)];
      if (bars[0] + bars[1] < last) to = this.startOf(index) + s.bars[bars[0] + bars[1]];
    }
    const before = this.manifest.sections[index - 1],
      after = this.manifest.sections[index + 1];
    if (around && before) from = before.start / RATE + before.bars[Math.max(0, before.bars.length - 1 - around)];
    if (around && after) to = after.start / RATE + after.bars[Math.min(around, after.bars.length - 1)];
    return { section: id, bars, around, from, to };
  }
  // Other layers are listened to: from the next bar on, without an edit.
  hear(query) {
    if (query === this.listening) return;
    this.listening = query;
    this.manifest = {
      ...this.manifest,
      asked: undefined,
      sections: this.manifest.sections.map((s) => ({ ...s, key: undefined })),
    };
    if (this.playing) this.swap();
  }
  // The keys of the sections' sound, asked for once per state and only when something is to be played.
  keys(manifest = this.manifest) {
    manifest.asked ??= fetch(`/songs/${manifest.song}/keys/${manifest.revision}.json?${this.listening}`)
      .then((r) => {
        if (!r.ok) throw new Error("keys");
        return r.json();
      })
      .then(({ keys }) => {
        manifest.sections.forEach((section, i) => {
          section.key = keys[i];
        });
        const known = new Set(keys);
        for (const key of this.buffers.keys()) if (!known.has(key) && this.buffers.size > 24) this.buffers.delete(key);
      });
    manifest.asked.catch(() => {
      manifest.asked = undefined;
    });
    return manifest.asked;
  }
  get end() {
    const last = this.manifest.sections.at(-1);
    return last ? (last.start + last.samples) / RATE : 0;
  }
  indexAt(seconds) {
    const s = this.manifest.sections;
    for (let i = s.length - 1; i > 0; i--) if (seconds >= s[i].start / RATE - 1e-6) return i;
    return 0;
  }
  startOf(index) {
    return this.manifest.sections[index].start / RATE;
  }
  endOf(index) {
    const s = this.manifest.sections[index];
    return (s.start + s.samples) / RATE;
  }

  place(seconds) {
    const sections = this.manifest.sections;
    if (!sections.length) return { bar: 1, beat: 1, share: 0, index: 0, barIndex: 0 };
    const index = this.indexAt(seconds),
      s = sections[index],
      into = seconds - s.start / RATE;
    let bar = 0;
    while (bar < s.bars.length - 2 && into >= s.bars[bar + 1] - 1e-6) bar++;
    const share = Math.min(0.9999, Math.max(0, (into - s.bars[bar]) / (s.bars[bar + 1] - s.bars[bar])));
    const first = sections[0].bar;
    return {
      bar: s.bar + bar,
      beat: 1 + Math.floor(share * s.beats[bar] + 1e-4),
      share,
      index,
      barIndex: s.bar + bar - first,
    };
  }

  // sound ---------------------------------------------------------------------------------------------------------
  context() {
    if (!this.ctx) {
      this.ctx = new AudioContext({ sampleRate: RATE, latencyHint: "interactive" });
      this.gain = this.ctx.createGain();
      this.analyser = this.ctx.createAnalyser();
      this.analyser.fftSize = 2048;
      this.chain = listeningChain(this.ctx);
      this.gain.connect(this.analyser).connect(this.ctx.destination);
    }
    return this.ctx;
  }
  // One band as [low, high] in hertz or null, one side, a gain: of what plays, at once.
  shape(range, side, level) {
    this.context();
    if (!this.shaped) {
      this.gain.disconnect(this.analyser);
      this.gain.connect(this.chain.input);
      this.chain.output.connect(this.analyser);
      this.shaped = true;
    }
    this.chain.shape(range, side, level);
  }
  volume(db) {
    this.volumeDb = db;
    if (this.playing) this.gain.gain.setTargetAtTime(10 ** (db / 20), this.ctx.currentTime, 0.03);
  }
  async buffer(index, manifest = this.manifest) {
    await this.keys(manifest);
    const section = manifest.sections[index];
    if (!this.buffers.has(section.key)) {
      const url = `/songs/${manifest.song}/audio/${manifest.revision}/${index}/${section.key}.wav?${this.listening}`;
      const made = fetch(url)
        .then((r) => {
          if (!r.ok) throw new Error("sound");
          return r.arrayBuffer();
        })
        .then((data) => this.context().decodeAudioData(data));
      made.catch(() => this.buffers.delete(section.key));
      this.buffers.set(section.key, made);
    }
    return this.buffers.get(section.key);
  }

  // `countIn` beats are clicked before the sound begins.
  async play(from = this.at, loop = this.loop, countIn = 0) {
    this.stop(false);
    if (!this.manifest.sections.length) return;
    this.loop = loop;
    if (from >= this.end - 0.01) from = 0;
    const ticket = ++this.starting;
    this.pending = true; // asked for and not yet sounding: a stop calls that off too
    const ctx = this.context();
    await ctx.resume();
    const index = this.indexAt(from);
    let sound;
    try {
      sound = await this.buffer(index);
    } catch {
      if (ticket === this.starting) this.pending = false;
      this.onError("The sound could not be made. Load the page again.");
      return;
    }
    if (ticket !== this.starting) return;
    this.pending = false;
    this.playing = true;
    const now = ctx.currentTime + 0.04 + this.countIn(from, countIn, ctx.currentTime + 0.04);
    this.gain.gain.cancelScheduledValues(now);
    this.gain.gain.setValueAtTime(0, now);
    this.gain.gain.linearRampToValueAtTime(10 ** (this.volumeDb / 20), now + START_FADE_S);
    this.next = { time: now, position: from };
    this.schedule(index, sound);
    this.timer = setInterval(() => this.pump(), 120);
    this.frame();
  }
  // One run of one section's chunk from this.next.position on, until the section or the loop ends.
  schedule(index, sound) {
    const start = this.startOf(index),
      from = this.next.position;
    let until = this.endOf(index);
    if (this.loop && this.loop.to > from + 0.01) until = Math.min(until, this.loop.to);
    const last = index === this.manifest.sections.length - 1 && !(this.loop && this.loop.to <= until + 1e-6);
    const source = this.ctx.createBufferSource(),
      fade = this.ctx.createGain();
    source.buffer = sound;
    source.connect(fade).connect(this.gain);
    source.start(this.next.time, from - start, last ? undefined : until - from);
    const clicks = this.clicking ? this.clicks(from, until, this.next.time) : [];
    const segment = {
      source,
      fade,
      index,
      clicks,
      key: this.manifest.sections[index].key,
      time: this.next.time,
      position: from,
      until,
    };
    this.segments.push(segment);
    this.history.push({
      segment,
      revision: this.manifest.revision,
      section: this.manifest.sections[index].id,
      from_s: from - start,
      ...Object.fromEntries(new URLSearchParams(this.listening)),
    });
    if (this.history.length > 400) this.history.shift();
    this.next = {
      time: this.next.time + until - from,
      position: this.loop && until >= this.loop.to - 1e-6 ? this.loop.from : until,
    };
    return segment;
  }
  async pump() {
    if (!this.playing || this.busy) return;
    const now = this.ctx.currentTime;
    this.segments = this.segments.filter((s) => s.time + s.until - s.position > now - 1);
    if (this.next.position >= this.end - 1e-6) {
      if (now > this.next.time) {
        this.stop();
        this.at = 0;
        this.onTick(this.at, null);
      }
      return;
    }
    const index = this.indexAt(this.next.position + 1e-6);
    if (this.next.time - now > AHEAD_S) {
      this.buffer(index).catch(() => {});
      return;
    }
    this.busy = true;
    try {
      const manifest = this.manifest,
        sound = await this.buffer(index);
      if (this.playing && this.manifest === manifest) {
        if (this.next.time < this.ctx.currentTime) this.next.time = this.ctx.currentTime + 0.02; // late: wait rather than skip
        this.schedule(index, sound);
      }
    } catch {
      this.onError("The next section's sound could not be made.");
      this.stop();
    } finally {
      this.busy = false;
    }
  }
  // After an edit: what is scheduled but has not begun is taken back; what sounds changes over at the next bar.
  async swap() {
    const now = this.ctx.currentTime,
      running = this.segments.find((s) => s.time <= now && now < s.time + s.until - s.position);
    for (const s of this.segments) if (s !== running && s.time > now) end(s);
    this.segments = this.segments.filter((s) => !s.gone);
    if (!running) return;
    this.next = {
      time: running.time + running.until - running.position,
      position: this.loop && running.until >= this.loop.to - 1e-6 ? this.loop.from : running.until,
    };
    const position = running.position + now - running.time,
      index = Math.min(running.index, this.manifest.sections.length - 1);
    const manifest = this.manifest,
      section = manifest.sections[index];
    let sound;
    try {
      await this.keys(manifest);
      if (section.key === running.key) return;
      sound = await this.buffer(index);
    } catch {
      return;
    }
    if (!this.playing || this.manifest !== manifest) return;
    const later = position + this.ctx.currentTime - now + 0.03;
    const bar = section.bars.map((b) => b + section.start / RATE).find((b) => b >= later) ?? null;
    if (bar === null || bar >= this.endOf(index) - 0.01) return;
    const time = running.time + bar - running.position;
    running.fade.gain.setValueAtTime(1, time - FADE_S);
    running.fade.gain.linearRampToValueAtTime(0, time);
    running.source.stop(time + 0.01);
    running.until = bar;
    for (const c of running.clicks) if (c.at >= time - 0.01) c.stop();
    for (const s of this.segments) if (s.time > time) end(s);
    this.segments = this.segments.filter((s) => !s.gone);
    this.next = { time, position: bar };
    this.schedule(index, sound);
  }
  stop(keep = true) {
    this.starting++;
    if (keep && this.playing) this.at = this.position();
    this.playing = false;
    this.pending = false;
    clearInterval(this.timer);
    for (const s of this.segments) {
      s.ended ??= this.ctx.currentTime;
      for (const c of s.clicks) c.stop();
      try {
        s.fade.gain.setTargetAtTime(0, this.ctx.currentTime, 0.008);
        s.source.stop(this.ctx.currentTime + 0.06);
      } catch {
        /* it had ended */
      }
    }
    for (const c of this.counting ?? []) c.stop();
    this.segments = [];
    this.counting = [];
  }
  // What was heard on this page up to now: stretches of sections, in order.
  heard() {
    const now = this.ctx?.currentTime ?? 0;
    return this.history.map(({ segment: s, ...part }) => ({
      ...part,
      seconds: Math.max(0, Math.min(s.ended ?? now, s.time + s.until - s.position, now) - s.time),
    }));
  }
  position() {
    if (!this.playing) return this.at;
    const now = this.ctx.currentTime;
    const running = this.segments.find((s) => s.time <= now && now < s.time + s.until - s.position);
    return running ? running.position + now - running.time : this.at;
  }
  // Where the song is at this moment, also before its first sound while bars are counted in (then below the start).
  moment() {
    const now = this.ctx.currentTime - (this.ctx.outputLatency || this.ctx.baseLatency || 0),
      s = this.segments;
    const running = s.find((x) => x.time <= now && now < x.time + x.until - x.position) ?? s[0];
    return running ? running.position + now - running.time : this.at;
  }

  // the click -----------------------------------------------------------------------------------------------------
  // Beats between two positions: [seconds in the song, whether a bar begins].
  beats(from, until) {
    const found = [];
    for (const s of this.manifest.sections) {
      const start = s.start / RATE;
      for (let bar = 0; bar < s.bars.length - 1; bar++) {
        const length = (s.bars[bar + 1] - s.bars[bar]) / s.beats[bar];
        for (let beat = 0; beat < s.beats[bar]; beat++) {
          const at = start + s.bars[bar] + beat * length;
          if (at >= from - 1e-4 && at < until - 1e-4) found.push([at, beat === 0]);
        }
      }
    }
    return found;
  }
  clicks(from, until, time) {
    return this.beats(from, until).map(([at, first]) => this.tock(time + at - from, first));
  }
  countIn(from, beats, time) {
    if (!beats) return 0;
    const s = this.manifest.sections[this.indexAt(from + 1e-6)],
      into = from - s.start / RATE;
    let bar = 0;
    while (bar < s.bars.length - 2 && into >= s.bars[bar + 1] - 1e-6) bar++;
    const length = (s.bars[bar + 1] - s.bars[bar]) / s.beats[bar];
    this.counting = Array.from({ length: beats }, (_, i) => this.tock(time + i * length, i % s.beats[bar] === 0));
    return beats * length;
  }
  tock(time, first) {
    const source = this.ctx.createOscillator(),
      gain = this.ctx.createGain();
    source.frequency.value = first ? 1650 : 1100;
    gain.gain.setValueAtTime(0, time);
    gain.gain.linearRampToValueAtTime(0.25 * 10 ** (this.volumeDb / 20), time + 0.002);
    gain.gain.exponentialRampToValueAtTime(0.0005, time + 0.06);
    source.connect(gain).connect(this.ctx.destination);
    source.start(time);
    source.stop(time + 0.07);
    return {
      at: time,
      stop: () => {
        try {
          source.stop();
          gain.disconnect();
        } catch {
          /* it had ended */
        }
      },
    };
  }
  level() {
    if (!this.playing) return 0;
    const data = (this.samples ??= new Float32Array(this.analyser.fftSize));
    this.analyser.getFloatTimeDomainData(data);
    return data.reduce((top, x) => Math.max(top, Math.abs(x)), 0);
  }
  frame() {
    if (!this.playing) return;
    this.at = this.position();
    this.onTick(this.at, this.level());
    requestAnimationFrame(() => this.frame());
  }
}
