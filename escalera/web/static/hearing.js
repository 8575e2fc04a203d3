// One thing heard by itself at a time: quiet at first, at the listening level.
import { say } from "./shell.js";

let alone = null,
  level = () => -12;
export const listenAt = (volume) => {
  level = volume;
};

export function hear(url, mark) {
  const same = alone?.url === url && !alone.audio.paused;
  quiet();
  if (same) return;
  const audio = new Audio(url),
    volume = Math.min(1, 10 ** (level() / 20));
  audio.volume = 0;
  audio.addEventListener(
    "playing",
    () => {
      const rise = setInterval(() => {
        audio.volume = Math.min(volume, audio.volume + volume / 6);
        if (audio.volume >= volume) clearInterval(rise);
      }, 20);
    },
    { once: true },
  );
  audio.addEventListener("ended", () => mark?.classList.remove("sounding"));
  audio.play().catch((error) => {
    if (error.name !== "AbortError") {
      mark?.classList.remove("sounding");
      say("That could not be made to sound. Correct what is marked, or load the page again.");
    }
  });
  mark?.classList.add("sounding");
  alone = { audio, url, mark };
}
export function quiet() {
  if (alone) {
    alone.audio.pause();
    alone.mark?.classList.remove("sounding");
    alone = null;
  }
}
