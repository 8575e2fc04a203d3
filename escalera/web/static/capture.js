// The shelf: one key starts catching what is played; digits begin a loop.
import { say, typing } from "./shell.js";

const $ = (id) => document.getElementById(id),
  dialog = $("capture");
/** @type {[string, number][]} */
const ROWS = [
    ["ZXCVBNM", 48],
    ["ASDFGHJ", 60],
    ["QWERTYU", 72],
  ],
  MAJOR = [0, 2, 4, 5, 7, 9, 11],
  NAMES = "C D E F G A B".split(" ");
const pitches = new Map(ROWS.flatMap(([row, home]) => [...row].map((letter, i) => [letter, home + MAJOR[i]])));
let context = null,
  notes = [],
  taps = [],
  began = 0;
const sounds = new Map(),
  down = new Map();

function load(url) {
  context ??= new AudioContext({ latencyHint: "interactive" });
  if (!sounds.has(url))
    sounds.set(
      url,
      fetch(url)
        .then((r) => r.arrayBuffer())
        .then((data) => context.decodeAudioData(data)),
    );
  return sounds.get(url);
}
async function sound(url) {
  try {
    const buffer = await load(url),
      source = context.createBufferSource(),
      gain = context.createGain();
    await context.resume();
    source.buffer = buffer;
    gain.gain.value = 0.25; // quiet to begin with
    source.connect(gain).connect(context.destination);
    source.start();
    return () => gain.gain.setTargetAtTime(0, context.currentTime, 0.06);
  } catch {
    say("That could not be made to sound. What you play is caught all the same.");
    return () => {};
  }
}
const now = (event) => {
  began ||= event.timeStamp;
  return (event.timeStamp - began) / 1000;
};
function told() {
  const parts = [
    [notes.length + down.size, "note", "notes"],
    [taps.length, "tap", "taps"],
  ]
    .filter(([n]) => n)
    .map(([n, one, more]) => `${n} ${n === 1 ? one : more}`);
  $("caught").textContent = parts.length ? `Caught: ${parts.join(", ")}.` : "Nothing yet.";
}
function again() {
  notes = [];
  taps = [];
  began = 0;
  down.clear();
  told();
}
function start() {
  again();
  dialog.showModal();
  for (const pitch of pitches.values()) load(`/capture/note/${pitch}.wav`).catch(() => {});
  for (const drum of "lh") load(`/capture/drum/${drum}.wav`).catch(() => {});
}
function tap(drum, event) {
  taps.push([Number(now(event).toFixed(4)), drum]);
  sound(`/capture/drum/${drum}.wav`);
  flash(document.querySelector(`[data-drum=${drum}]`));
  told();
}
function flash(element) {
  element?.classList.add("struck");
  setTimeout(() => element?.classList.remove("struck"), 110);
}
function press(code, pitch, event) {
  down.set(code, { pitch, at: now(event), end: sound(`/capture/note/${pitch}.wav`) });
  flash(document.querySelector(`[data-note="${pitch}"]`));
  told();
}
function release(code, event) {
  const note = down.get(code);
  if (!note) return;
  down.delete(code);
  note.end.then((end) => end());
  notes.push([Number(note.at.toFixed(4)), Number(Math.max(0.05, now(event) - note.at).toFixed(4)), note.pitch]);
}
function keep(event) {
  for (const code of [...down.keys()]) release(code, event);
  if (!notes.length && !taps.length) {
    event.preventDefault();
    say("Nothing was played yet. Press letters for notes, or the arrows ↓ and ↑ for a low and a high drum.");
    return;
  }
  $("capture-form").elements.notes.value = JSON.stringify(notes);
  $("capture-form").elements.taps.value = JSON.stringify(taps);
}
$("capture-keys").replaceChildren(
  ...[...ROWS].reverse().flatMap(([row, home]) =>
    [...row].map((letter, i) => {
      const button = document.createElement("button");
      button.type = "button";
      button.className = `rung-key${i === 0 ? " home" : ""}`;
      button.dataset.note = String(home + MAJOR[i]);
      button.tabIndex = -1;
      button.append(
        Object.assign(document.createElement("b"), { textContent: NAMES[i] }),
        Object.assign(document.createElement("small"), { textContent: letter }),
      );
      return button;
    }),
  ),
);
document.addEventListener("click", (event) => {
  const hit = (query) => event.target.closest?.(query);
  if (hit("[data-action=capture]")) start();
  else if (hit("[data-capture-again]")) again();
  else if (hit("[data-capture-end]")) dialog.close();
});
document.addEventListener("pointerdown", (event) => {
  const pad = event.target.closest?.("[data-drum]"),
    note = event.target.closest?.("#capture-keys [data-note]");
  if (pad) {
    event.preventDefault();
    tap(pad.dataset.drum, event);
  }
  if (note) {
    event.preventDefault();
    press(`pointer${event.pointerId}`, Number(note.dataset.note), event);
  }
});
document.addEventListener("pointerup", (event) => release(`pointer${event.pointerId}`, event));
$("capture-form").addEventListener("submit", keep);
document.addEventListener(
  "keydown",
  (event) => {
    if (!dialog.open) {
      if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key.toLowerCase() === "i") {
        event.preventDefault();
        start();
      } else document.querySelector(`[data-way="${event.key}"]`)?.click();
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const pitch = pitches.get(event.code.startsWith("Key") ? event.code.slice(3) : event.key.toUpperCase());
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      if (!event.repeat) tap(event.key === "ArrowDown" ? "l" : "h", event);
    } else if (event.key === "Enter") {
      event.preventDefault();
      event.stopPropagation();
      $("capture-form").requestSubmit();
    } else if (event.key === "Backspace") {
      event.preventDefault();
      again();
    } else if (pitch !== undefined) {
      event.preventDefault();
      event.stopPropagation();
      if (!event.repeat && !down.has(event.code)) press(event.code, pitch + (event.shiftKey ? 1 : 0), event);
    }
  },
  true,
);
document.addEventListener("keyup", (event) => release(event.code, event));
window.addEventListener("blur", () => down.clear());
