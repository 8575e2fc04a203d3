// A section that goes round while samples are tried in it: each takes over at the next beat, in the same place of the round.
import { say } from "./shell.js";

const AHEAD_S = 0.05,
  CROSS_S = 0.02;

// `context` gives the audio clock, `volume` the level in dB, `beat` the seconds of a beat, `told` is called when what sounds changes.
export function trying({ context, volume, beat, told }) {
  let now = null, // { url, gain, source, at, length }
    asked = 0;
  const buffers = new Map();

  async function buffer(url) {
    if (!buffers.has(url)) {
      const answer = await fetch(url);
      if (!answer.ok) throw new Error((await answer.text()).replace(/<[^>]+>/g, " ").trim());
      buffers.set(url, await context().decodeAudioData(await answer.arrayBuffer()));
      if (buffers.size > 8) buffers.delete(buffers.keys().next().value);
    }
    return buffers.get(url);
  }
  // Begin with a section, or go over to another state of it at the next beat.
  async function play(url) {
    const mine = ++asked,
      audio = context();
    try {
      await audio.resume();
      const piece = await buffer(url);
      if (mine === asked) take(piece, url);
    } catch (error) {
      if (mine === asked) say(error.message || "That could not be made to sound. Load the page again.");
    }
  }
  function take(piece, url) {
    const audio = context(),
      source = audio.createBufferSource(),
      gain = audio.createGain();
    source.buffer = piece;
    source.loop = true;
    source.connect(gain).connect(audio.destination);
    let when = audio.currentTime + AHEAD_S,
      at = when;
    const level = 10 ** (volume() / 20);
    if (now) {
      const since = when - now.at,
        step = beat();
      when = now.at + Math.ceil(since / step) * step;
      at = now.at;
      now.gain.gain.setValueAtTime(level, when);
      now.gain.gain.linearRampToValueAtTime(0, when + CROSS_S);
      now.source.stop(when + CROSS_S + 0.05);
      gain.gain.setValueAtTime(0, when);
      gain.gain.linearRampToValueAtTime(level, when + CROSS_S);
    } else {
      gain.gain.setValueAtTime(0, when);
      gain.gain.linearRampToValueAtTime(level, when + 0.3);
    }
    source.start(when, (when - at) % piece.duration);
    now = { url, gain, source, at, length: piece.duration };
    told(url);
  }
  function stop() {
    asked += 1;
    if (!now) return;
    const audio = context();
    now.gain.gain.cancelScheduledValues(audio.currentTime);
    now.gain.gain.setTargetAtTime(0, audio.currentTime, 0.02);
    now.source.stop(audio.currentTime + 0.15);
    now = null;
    told("");
  }
  return { play, stop, playing: () => now?.url ?? "", forget: () => buffers.clear() };
}
