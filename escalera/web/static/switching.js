// A section of one's own heard in place of a track's: on the next beat, at matched loudness, in the same beat of the section.
import { say } from "./shell.js";

const CROSS_S = 0.012;

// `player` plays the track; `told(on)` is called when the other one sounds.
export function switching(player, told) {
  let own = null; // { source, gain, at, beat, length }
  async function toggle({ own: url, beat, bars }) {
    if (own) return back();
    const ctx = player.context(),
      m = player.manifest,
      section = m.sections.find(
        (s) => m.bars[s.bar] <= player.position() + 0.01 && m.bars[s.bar + s.bars] > player.position(),
      );
    await ctx.resume();
    let sound;
    try {
      const answer = await fetch(url);
      if (!answer.ok) throw new Error();
      sound = await ctx.decodeAudioData(await answer.arrayBuffer());
    } catch {
      say("Your section could not be made to sound. Load the page again.");
      return;
    }
    const from = player.position(),
      { index, at, length } = player.beatAt(from),
      wait = player.playing ? (at + length - from) / player.how.speed : 0.03,
      beats = Number(bars) * m.beats_a_bar,
      first = section ? m.before + section.bar * m.beats_a_bar : index + 1,
      place = player.playing ? (index + 1 - first + beats * 64) % beats : 0,
      when = ctx.currentTime + wait,
      source = ctx.createBufferSource(),
      gain = ctx.createGain();
    source.buffer = sound;
    source.loop = true;
    source.connect(gain).connect(ctx.destination);
    gain.gain.setValueAtTime(0, when);
    gain.gain.linearRampToValueAtTime(10 ** (player.volumeDb / 20), when + CROSS_S);
    source.start(when, (place * Number(beat)) % sound.duration);
    own = { source, gain, when, place, beat: Number(beat), beats, first };
    setTimeout(() => player.halt(), 1000 * wait);
    told(true);
  }
  // Back to the track on the next beat.
  function back() {
    const ctx = player.context(),
      { when, place, beat, beats, first } = own,
      gone = Math.max(0, ctx.currentTime - when) / beat,
      next = Math.ceil(gone + 0.02),
      wait = (next - gone) * beat,
      m = player.manifest,
      at = m.beats[Math.min(m.beats.length - 2, first + ((place + next) % beats))];
    setTimeout(
      () => {
        stop();
        player.play(at);
      },
      Math.max(0, 1000 * wait - 40),
    );
  }
  function stop() {
    if (!own) return;
    const ctx = player.context();
    own.gain.gain.cancelScheduledValues(ctx.currentTime);
    own.gain.gain.setTargetAtTime(0, ctx.currentTime, 0.01);
    own.source.stop(ctx.currentTime + 0.1);
    own = null;
    told(false);
  }
  return { toggle, stop, sounding: () => Boolean(own) };
}
