// A section that goes round while samples are tried in it: each takes over at the next beat, in the same place of the round.
// The section and what is tried are two sounds on one clock, so that only what changes has to be made.
import { say } from "./shell.js";

const AHEAD_S = 0.05,
  CROSS_S = 0.02,
  ROOM = 0.8; // both together stay below full scale

// `context` gives the audio clock, `volume` the level in dB, `beat` the seconds of a beat, `told` is called when what sounds changes.
export function trying({ context, volume, beat, told }) {
  let round = null, // { at, base, part }, the two each { url, gain, source } or null
    asked = 0;
  const buffers = new Map(),
    history = []; // { base, part, from, when, until }: what was heard, for those who want to keep it

  async function buffer(url) {
    if (!buffers.has(url)) {
      const answer = await fetch(url);
      if (!answer.ok) throw new Error((await answer.text()).replace(/<[^>]+>/g, " ").trim());
      buffers.set(url, await context().decodeAudioData(await answer.arrayBuffer()));
      if (buffers.size > 12) buffers.delete(buffers.keys().next().value);
    }
    return buffers.get(url);
  }
  // Let a section go round, with something laid over it or nothing (""): what changes takes over at the next beat.
  async function play(base, part = "") {
    const mine = ++asked;
    try {
      await context().resume();
      const pieces = await Promise.all([buffer(base), part ? buffer(part) : null]);
      if (mine === asked) take(base, part, pieces);
    } catch (error) {
      if (mine === asked) say(error.message || "That could not be made to sound. Load the page again.");
    }
  }
  function take(base, part, [under, over]) {
    const now = context().currentTime + AHEAD_S,
      at = round?.at ?? now,
      when = round ? at + Math.ceil((now - at) / beat()) * beat() : now,
      rise = round ? CROSS_S : 0.3;
    if (history.length && history.at(-1).until === null) history.at(-1).until = when;
    history.push({ base, part, from: (when - at) % under.duration, when, until: null });
    round = {
      at,
      base: round?.base?.url === base ? round.base : swap(round?.base, base, under, when, at, rise),
      part: round?.part?.url === part ? round.part : swap(round?.part, part, over, when, at, rise),
    };
    told();
  }
  function swap(old, url, piece, when, at, rise) {
    const audio = context(),
      level = ROOM * 10 ** (volume() / 20);
    if (old) {
      old.gain.gain.setValueAtTime(level, when);
      old.gain.gain.linearRampToValueAtTime(0, when + CROSS_S);
      old.source.stop(when + CROSS_S + 0.05);
    }
    if (!piece) return null;
    const source = audio.createBufferSource(),
      gain = audio.createGain();
    source.buffer = piece;
    source.loop = true;
    source.connect(gain).connect(audio.destination);
    gain.gain.setValueAtTime(0, when);
    gain.gain.linearRampToValueAtTime(level, when + rise);
    source.start(when, (when - at) % piece.duration);
    return { url, gain, source };
  }
  function stop() {
    asked += 1;
    if (!round) return;
    const audio = context();
    history.at(-1).until = audio.currentTime;
    for (const each of [round.base, round.part]) {
      if (!each) continue;
      each.gain.gain.cancelScheduledValues(audio.currentTime);
      each.gain.gain.setTargetAtTime(0, audio.currentTime, 0.02);
      each.source.stop(audio.currentTime + 0.15);
    }
    round = null;
    told();
  }
  // What was heard up to now: addresses of the section and of what was laid over it, from where in the round, how long.
  function heard() {
    if (!history.length) return [];
    const now = context().currentTime;
    return history.map(({ base, part, from, when, until }) => ({
      base,
      part,
      from,
      seconds: Math.max(0, Math.min(until ?? now, now) - when),
    }));
  }
  return {
    play,
    stop,
    heard,
    base: () => round?.base?.url ?? "",
    part: () => round?.part?.url ?? "",
    ready: (url) => buffer(url).catch(() => null),
    forget: () => buffers.clear(),
  };
}
