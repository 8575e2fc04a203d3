// Single notes struck from the page, each fetched once: a layer's own sound, at the listening level.
import { say } from "./shell.js";

let context = null;
const sounds = new Map();
export const forget = () => sounds.clear();

export function fetchNote(song, pitch, layer) {
  const key = `${layer}:${pitch}`;
  context ??= new AudioContext({ latencyHint: "interactive" });
  if (!sounds.has(key))
    sounds.set(
      key,
      fetch(`/songs/${song}/harmony/note/${pitch}.wav?hear=${layer}`)
        .then((r) => r.arrayBuffer())
        .then((data) => context.decodeAudioData(data)),
    );
  return sounds.get(key);
}
export async function strikeNote(song, pitch, layer, volumeDb) {
  try {
    const buffer = await fetchNote(song, pitch, layer),
      source = context.createBufferSource(),
      gain = context.createGain();
    await context.resume();
    source.buffer = buffer;
    gain.gain.value = Math.min(1, 10 ** (volumeDb / 20));
    source.connect(gain).connect(context.destination);
    source.start();
    return () => {
      gain.gain.setTargetAtTime(0, context.currentTime, 0.05);
    };
  } catch {
    say("That note could not be made. Load the page again.");
    return () => {};
  }
}
