// The counting helper, on every page: taps, named feels, questions, note values. The arithmetic is the server's.
import { typing } from "./shell.js";

const panel = document.getElementById("count"),
  $ = (id) => document.getElementById(id);
const song = () => document.querySelector("[data-song]")?.dataset.song ?? "";
const NEW_RUN_S = 3;
let taps = [],
  filled = "",
  filling = Promise.resolve(),
  asked = 0;

// Asked for once, however many taps come meanwhile: a second answer would take away what they showed.
function fill() {
  const which = `${song()}:${document.querySelector("#state [name=base]")?.value ?? ""}`;
  if (filled !== which) {
    filled = which;
    filling = htmx
      .ajax("GET", `/count?song=${song()}`, { target: panel, swap: "innerHTML" })
      .then(() => {
        if ($("count-song")) $("count-song").value = song();
      })
      .catch(() => {
        filled = "";
      });
  }
  return filling;
}
async function open(focus = "#q") {
  if (panel.hidden) before = document.activeElement;
  panel.hidden = false;
  await fill();
  if (focus) panel.querySelector(focus)?.focus();
}
let before = null; // where the hand was when the helper opened
function close() {
  if (panel.contains(document.activeElement)) {
    document.activeElement.blur();
    before?.isConnected && before.focus({ preventScroll: true });
  }
  panel.hidden = true;
  taps = [];
}
const toggle = () => (panel.hidden ? open() : close());

async function tap(at) {
  if (panel.hidden) {
    open(null);
  }
  const now = at / 1000;
  if (taps.length && now - taps.at(-1) > NEW_RUN_S && taps.length > 1) taps = [];
  taps.push(now);
  $("tap-pad")?.classList.add("struck");
  setTimeout(() => $("tap-pad")?.classList.remove("struck"), 90);
  if (!$("taps")) await fill(); // what is asked and answered beside the pad stays
  const mine = ++asked,
    query = taps.map((t) => (t - taps[0]).toFixed(4)).join(",");
  const response = await fetch(`/count/taps?song=${song()}&t=${query}`, { headers: { "HX-Request": "true" } });
  if (mine === asked && $("taps")) show($("taps"), await response.text());
}
// Answers come from our own server; htmx wires up what is in them.
function show(target, html) {
  target.innerHTML = html;
  htmx.process(target);
}
async function times(tempo) {
  const response = await fetch(`/count/times?tempo=${encodeURIComponent(tempo)}`, {
    headers: { "HX-Request": "true" },
  });
  show($("times"), await response.text());
}

document.addEventListener("click", (event) => {
  const hit = (query) => event.target.closest?.(query);
  if (hit("[data-action=count]")) toggle();
  else if (hit("#taps-again")) {
    taps = [];
    $("taps").replaceChildren();
  } else if (hit("[data-ask]")) {
    $("q").value = hit("[data-ask]").dataset.ask;
    htmx.trigger("#ask", "submit");
  } else if (hit("[data-times]")) times(hit("[data-times]").dataset.times);
});
document.addEventListener("pointerdown", (event) => {
  if (event.target.closest?.("#tap-pad") && !event.button) {
    event.preventDefault();
    tap(event.timeStamp);
  }
});
document.addEventListener(
  "keydown",
  (event) => {
    if (event.key === "Escape" && !panel.hidden && panel.contains(document.activeElement)) {
      close();
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
    if (event.target.closest?.("#tap-pad") && (event.key === " " || event.key === "Enter")) {
      event.preventDefault();
      event.stopPropagation();
      tap(event.timeStamp);
      return;
    }
    if (typing(event) || document.body.dataset.letters) return;
    if (event.key === "c" || event.key === "C") {
      event.preventDefault();
      toggle();
    } else if (event.key === "t" || event.key === "T") tap(event.timeStamp);
  },
  true,
);
document.addEventListener("change", (event) => {
  if (event.target.id !== "feel" || !event.target.value) return;
  const chosen = event.target.selectedOptions[0],
    said = $("feel-said"),
    set = document.createElement("button");
  said.textContent = `${chosen.dataset.said}; usually ${chosen.dataset.range} bpm. `;
  if (song()) {
    Object.assign(set, { type: "button", className: "btn-line", textContent: `Set ${chosen.value}` });
    set.dataset.do = JSON.stringify({ kind: "set_tempo", tempo_bpm: chosen.value });
    said.append(set);
  }
  times(chosen.value);
});
