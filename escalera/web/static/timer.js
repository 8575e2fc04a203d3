// The timer of a step, on every page: it counts what is left and rings softly once. It follows the time that passes, not the
// clock on the wall, so that a clock that is set changes nothing.
import { all } from "./dom.js";

const began = performance.now();
/** @type {WeakMap<HTMLElement, number>} */
const shown = new WeakMap();
const title = document.title;
let rung = false;

const left = (element) => {
  if (!shown.has(element)) shown.set(element, performance.now());
  const since = element.dataset.paused === undefined ? (performance.now() - (shown.get(element) ?? began)) / 1000 : 0;
  return Number(element.dataset.left) - since;
};
const clock = (seconds) => {
  const whole = Math.max(0, Math.ceil(seconds));
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
};
// Two quiet tones that die away: loud enough beside a loop, too soft to startle.
async function ring() {
  try {
    const context = new AudioContext(),
      out = context.createGain();
    await context.resume();
    out.gain.value = 0.05;
    out.connect(context.destination);
    for (const [hz, at] of [
      [660, 0],
      [880, 0.35],
    ]) {
      const tone = context.createOscillator(),
        gain = context.createGain(),
        start = context.currentTime + at;
      tone.frequency.value = hz;
      gain.gain.setValueAtTime(0, start);
      gain.gain.linearRampToValueAtTime(1, start + 0.02);
      gain.gain.exponentialRampToValueAtTime(0.001, start + 1.8);
      tone.connect(gain).connect(out);
      tone.start(start);
      tone.stop(start + 2);
    }
    setTimeout(() => context.close(), 3000);
  } catch {
    // without sound the title says it
  }
}
function tick() {
  for (const element of all("[data-timer]")) {
    const before = Number(element.dataset.left),
      rest = left(element),
      text = clock(rest),
      told = element.querySelector(".timer-left");
    if (told && told.textContent !== text) told.textContent = text;
    element.classList.toggle("over", rest <= 0);
    const laid = Math.floor((Number(element.dataset.planned) * 60 - rest) / 60);
    element.querySelectorAll(".courses i").forEach((brick, i) => {
      brick.classList.toggle("laid", i < laid);
    });
    if (before > 0 && rest <= 0 && !rung) {
      rung = true;
      document.title = `Time is up · ${title}`;
      document.body.dataset.rung = "1";
      ring();
    }
  }
}
setInterval(tick, 500);
document.addEventListener("htmx:afterSettle", () => {
  // the step was held, ended or begun: the timer in the head follows the one of the page
  const page = document.querySelector(".running[data-timer]"),
    chip = document.querySelector(".timer-chip");
  if (document.getElementById("steps") && chip && !page) chip.remove();
  if (page && chip && page instanceof HTMLElement && chip instanceof HTMLElement) {
    chip.dataset.left = page.dataset.left;
    shown.delete(chip);
    if (page.dataset.paused === undefined) delete chip.dataset.paused;
    else chip.dataset.paused = "";
  }
  tick();
});
tick();
