// Plays a track piece by piece: slower at pitch, one band, one side, without the middle, only what is held or struck. Pieces are bars
// (or seconds, where there are none) that the server cuts out; bands and sides are made here, so that they change at once.
import { listeningChain } from "./listening_chain.js";

const RATE = 44100,
  CROSS_S = 0.01,
  AHEAD_S = 1.5,
  PIECE_S = 4;

export class StudyPlayer {
  // `told(seconds, playing)` is called as it plays; `failed(message)` where a piece could not be made.
  constructor(told, failed) {
    this.told = told;
    this.failed = failed;
    this.how = { speed: 1, octave: 0, part: "all" };
    this.band = null;
    this.side = "both";
    this.volumeDb = -12;
    this.at = 0;
    this.playing = false;
    this.loop = null; // [from, to] in seconds
    this.buffers = new Map();
    this.ticket = 0; // of what was asked for last
    this.run = 0; // of what plays
    this.along = false; // the chords on keys
    this.running = [];
    this.manifest = { seconds: 0, bars: [0], beats: [] };
  }
  load(manifest) {
    this.manifest = manifest;
  }
  context() {
    if (this.ctx) return this.ctx;
    this.ctx = new AudioContext({ sampleRate: RATE, latencyHint: "interactive" });
    const ctx = this.ctx;
    this.chain = listeningChain(ctx);
    this.input = this.chain.input;
    this.gain = ctx.createGain();
    this.chain.output.connect(this.gain).connect(ctx.destination);
    this.shape();
    return ctx;
  }
  // Band and sides as they are chosen now.
  shape() {
    if (!this.ctx) return;
    const edges = this.manifest.edges ?? [];
    this.chain.shape(this.band === null ? null : [edges[this.band], edges[this.band + 1]], this.side);
  }
  setBand(band) {
    this.band = band;
    this.shape();
  }
  setSide(side) {
    this.side = side;
    this.shape();
  }
  // Speed, octave or part: what sounds is taken over from where it is.
  set(change) {
    this.how = { ...this.how, ...change };
    if (this.playing) this.play(this.position());
  }
  volume(db) {
    this.volumeDb = db;
    if (this.playing) this.gain.gain.setTargetAtTime(10 ** (db / 20), this.ctx.currentTime, 0.03);
  }
  // Where the piece that begins at a moment ends: at a bar line, short at first so that it sounds soon.
  end(from, first) {
    const longest = first ? 1.2 : PIECE_S,
      until = this.loop && from < this.loop[1] - 0.01 ? this.loop[1] : this.manifest.seconds,
      lines = this.manifest.bars.filter((b) => b > from + 0.2 && b <= from + longest + 0.01),
      at = lines.length ? lines[lines.length - 1] : from + longest;
    return Math.min(at, until);
  }
  url(from, to) {
    const { speed, octave, part } = this.how;
    return `/studies/${this.manifest.study}/piece.wav?${new URLSearchParams({ from: from.toFixed(4), to: to.toFixed(4), speed: String(speed), octave: String(octave), part })}`;
  }
  async buffer(from, to) {
    const url = this.url(from, to);
    if (!this.buffers.has(url)) {
      const made = fetch(url)
        .then((r) => {
          if (!r.ok) throw new Error("piece");
          return r.arrayBuffer();
        })
        .then((data) => this.context().decodeAudioData(data));
      made.catch(() => this.buffers.delete(url));
      this.buffers.set(url, made);
      if (this.buffers.size > 40) this.buffers.delete(this.buffers.keys().next().value);
    }
    return this.buffers.get(url);
  }
  // What sounds goes on until its successor is there.
  async play(from = this.at) {
    if (from >= this.manifest.seconds - 0.05) from = 0;
    if (this.loop && (from < this.loop[0] - 0.01 || from >= this.loop[1] - 0.05)) from = this.loop[0];
    const mine = ++this.ticket,
      ctx = this.context(),
      to = this.end(from, true);
    await ctx.resume();
    let sound;
    try {
      sound = await this.buffer(from, to);
    } catch {
      if (mine === this.ticket) this.failed("The sound could not be made. Load the page again.");
      return;
    }
    if (mine !== this.ticket) return;
    this.silence();
    this.playing = true;
    const now = ctx.currentTime + 0.03;
    this.gain.gain.cancelScheduledValues(now);
    this.gain.gain.setValueAtTime(0, now);
    this.gain.gain.linearRampToValueAtTime(10 ** (this.volumeDb / 20), now + 0.25);
    this.next = { time: now, from };
    this.schedule(sound, from, to);
    const run = ++this.run;
    this.pump(run);
    this.frame(run);
  }
  schedule(sound, from, to) {
    const source = this.ctx.createBufferSource(),
      fade = this.ctx.createGain(),
      length = (to - from) / this.how.speed,
      { time } = this.next;
    source.buffer = sound;
    source.connect(fade).connect(this.input);
    fade.gain.setValueAtTime(0, time);
    fade.gain.linearRampToValueAtTime(1, time + CROSS_S);
    fade.gain.setValueAtTime(1, time + length);
    fade.gain.linearRampToValueAtTime(0, time + length + CROSS_S);
    source.start(time);
    source.stop(time + length + CROSS_S + 0.01);
    if (this.along) this.keys(from, to, time);
    this.running.push({ source, fade, time, from, to, speed: this.how.speed });
    const round = this.loop && to >= this.loop[1] - 0.005;
    this.next = { time: time + length, from: round ? this.loop[0] : to };
  }
  // The chords of a piece on keys that are tuned to the recording.
  keys(from, to, time) {
    const { beats, chords, tuning } = this.manifest;
    for (const [beat, end, pitches] of chords ?? []) {
      const at = beats[beat],
        until = beats[end];
      if (at < from - 0.01 || at >= to - 0.01) continue;
      const when = time + Math.max(0, at - from) / this.how.speed,
        length = (until - at) / this.how.speed;
      for (const pitch of pitches) {
        const tone = this.ctx.createOscillator(),
          gain = this.ctx.createGain();
        tone.type = "triangle";
        tone.frequency.value = 440 * 2 ** ((pitch - 69) / 12);
        tone.detune.value = tuning;
        gain.gain.setValueAtTime(0, when);
        gain.gain.linearRampToValueAtTime(0.09, when + 0.015);
        gain.gain.exponentialRampToValueAtTime(0.02, when + Math.max(0.1, length));
        gain.gain.linearRampToValueAtTime(0, when + Math.max(0.1, length) + 0.04);
        tone.connect(gain).connect(this.gain);
        tone.start(when);
        tone.stop(when + length + 0.15);
        this.running.push({ source: tone, fade: gain, time: when, from: at, to: at, speed: 0 });
      }
    }
  }
  async pump(run) {
    while (this.playing && run === this.run) {
      const now = this.ctx.currentTime;
      this.running = this.running.filter((r) => r.time + (r.speed ? (r.to - r.from) / r.speed : 30) > now - 0.5);
      if (this.next.from >= this.manifest.seconds - 0.02) {
        if (now > this.next.time) {
          this.halt();
          this.at = 0;
          this.told(0, false);
        }
        await new Promise((done) => setTimeout(done, 100));
        continue;
      }
      const { from } = this.next,
        to = this.end(from, false),
        made = this.buffer(from, to);
      if (this.next.time - now > AHEAD_S) {
        made.catch(() => {});
        await new Promise((done) => setTimeout(done, 100));
        continue;
      }
      try {
        const sound = await made;
        if (!this.playing || run !== this.run) return;
        if (this.next.time < this.ctx.currentTime) this.next.time = this.ctx.currentTime + 0.02; // late: wait rather than skip
        this.schedule(sound, from, to);
      } catch {
        this.halt();
        this.failed("The next bars could not be made to sound.");
      }
    }
  }
  position() {
    if (!this.playing) return this.at;
    const now = this.ctx.currentTime,
      piece = this.running.findLast((r) => r.speed && r.time <= now);
    return piece ? Math.min(piece.to, piece.from + (now - piece.time) * piece.speed) : this.at;
  }
  halt() {
    this.ticket += 1;
    if (this.playing) this.at = this.position();
    this.playing = false;
    this.silence();
  }
  silence() {
    for (const { source, fade } of this.running) {
      fade.gain.cancelScheduledValues(this.ctx.currentTime);
      fade.gain.setTargetAtTime(0, this.ctx.currentTime, 0.006);
      source.stop(this.ctx.currentTime + 0.05);
    }
    this.running = [];
  }
  stop() {
    this.halt();
    this.told(this.at, false);
  }
  seek(seconds) {
    this.at = Math.max(0, Math.min(seconds, this.manifest.seconds - 0.05));
    if (this.playing) this.play(this.at);
    else this.told(this.at, false);
  }
  frame(run) {
    if (!this.playing || run !== this.run) return;
    this.at = this.position();
    this.told(this.at, true);
    requestAnimationFrame(() => this.frame(run));
  }
  // The seconds of a beat where it is, and how far it is into it.
  beatAt(seconds) {
    const { beats } = this.manifest;
    const after = beats.findIndex((b) => b > seconds + 0.002),
      i = after < 0 ? Math.max(0, beats.length - 2) : Math.max(0, after - 1);
    return { index: i, at: beats[i] ?? 0, length: (beats[i + 1] ?? seconds + 0.5) - (beats[i] ?? seconds) };
  }
}
