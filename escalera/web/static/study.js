// A study: a track taken apart is heard in pieces, corrected, noted down, and held beside a section of one's own.
import { clockText } from "./clock.js";
import { all, byId, fieldsOf } from "./dom.js";
import { say, typing } from "./shell.js";
import { StudyPlayer } from "./study_player.js";
import { switching } from "./switching.js";

const root = byId("study"),
  path = `/studies/${root.dataset.study}`;
const field = (name) => /** @type {HTMLInputElement} */ (document.querySelector(`#state [name=${name}]`));
const here = () => ({ chosen: field("chosen").value, bar: field("bar").value });
const input = (id) => /** @type {HTMLInputElement} */ (byId(id));
const player = new StudyPlayer(told, (message) => say(message));
window.escalera = { player };
const mine = switching(player, (on) => {
  const button = document.getElementById("switch");
  if (button) button.textContent = on ? "Hear the track" : "Hear mine";
});

// state ---------------------------------------------------------------------------------------------------------------------
let queue = Promise.resolve();
const later = (act) => {
  queue = queue.then(act).catch(() => {});
  return queue;
};
const post = (name, values = {}) =>
  later(() => htmx.ajax("POST", `${path}/${name}`, { source: root, swap: "none", values: { ...here(), ...values } }));
const show = (change = {}) => {
  for (const [name, value] of Object.entries(change)) field(name).value = String(value);
  return later(() => htmx.ajax("GET", `${path}/show`, { source: root, swap: "none", values: here() }));
};
const manifest = () => JSON.parse(byId("study-manifest").textContent);
let seen = "";
function refresh() {
  const text = byId("study-manifest").textContent;
  if (text !== seen && text.length > 2) {
    seen = text;
    player.load(manifest());
    told(player.at, player.playing);
  }
  keepOpen();
  wait();
}
let asking = 0;
function wait() {
  clearTimeout(asking);
  if (document.querySelector("#study-head .spin")) asking = setTimeout(() => show(), 1200);
}
// Which parts of the side are open stays as it was through answers.
const open = new Map();
function keepOpen() {
  for (const part of all("details[data-keep]")) {
    const name = part.dataset.keep;
    if (open.has(name)) /** @type {HTMLDetailsElement} */ (part).open = open.get(name);
    part.addEventListener("toggle", () => open.set(name, /** @type {HTMLDetailsElement} */ (part).open), {
      once: false,
    });
  }
}
document.body.addEventListener("htmx:afterSettle", refresh);
refresh();

// where it is ---------------------------------------------------------------------------------------------------------------
function told(seconds, playing) {
  const { manifest: m } = player,
    place = byId("study-place");
  const share = (100 * seconds) / Math.max(0.001, m.seconds);
  const head = document.getElementById("stone-head");
  if (head) head.style.left = `${share}%`;
  const section = m.sections?.[Number(field("chosen").value)],
    close = document.getElementById("close-head");
  if (close && section) {
    const from = m.bars[section.bar],
      to = m.bars[section.bar + section.bars];
    close.style.left = `${(100 * (seconds - from)) / (to - from)}%`;
    close.hidden = seconds < from || seconds > to;
  }
  let text = clockText(seconds);
  if (m.beats?.length) {
    const beat = player.beatAt(seconds).index - m.before,
      bar = Math.floor(beat / m.beats_a_bar);
    place.querySelector("b").textContent = `${bar + 1}.${((beat - bar * m.beats_a_bar) % m.beats_a_bar) + 1}`;
    const lufs = m.lufs[bar];
    if (lufs !== undefined && lufs !== null) text += ` · ${lufs.toFixed(1).replace("-", "−")} LUFS`;
  } else place.querySelector("b").textContent = "";
  place.querySelector("span").textContent = text;
  byId("study-play").textContent = playing ? "Pause" : "Play";
}
const range = () => {
  const m = player.manifest,
    s = m.sections?.[Number(field("chosen").value)];
  return s ? [m.bars[s.bar], m.bars[s.bar + s.bars]] : null;
};
function loop() {
  const now = player.loop ? null : range();
  player.loop = now;
  byId("study-loop").setAttribute("aria-pressed", String(Boolean(now)));
  if (now) player.play(player.at >= now[0] && player.at < now[1] ? player.at : now[0]);
}
const toggle = () => {
  mine.stop();
  if (player.playing) player.stop();
  else player.play();
};
function choose(index) {
  const last = (player.manifest.sections?.length ?? 1) - 1,
    now = Math.max(0, Math.min(last, index));
  return show({ chosen: now, bar: "" }).then(() => {
    const s = range();
    if (!s) return;
    if (player.loop) player.loop = s;
    player.seek(s[0]);
    byId("study-stair").querySelector(".stone-name.chosen")?.scrollIntoView({ inline: "nearest", block: "nearest" });
  });
}
const step = (by) => choose(Number(field("chosen").value) + by);
function stepBar(by) {
  const m = player.manifest,
    s = m.sections?.[Number(field("chosen").value)];
  if (!s) return;
  const now = field("bar").value === "" ? s.bar - (by > 0 ? 1 : 0) : Number(field("bar").value),
    bar = Math.max(s.bar, Math.min(s.bar + s.bars - 1, now + by));
  show({ bar }).then(() => player.seek(m.bars[bar]));
}

// listening -----------------------------------------------------------------------------------------------------------------
function setSpeed(value) {
  for (const chip of all("[data-speed]"))
    chip.setAttribute("aria-pressed", String(Math.abs(Number(chip.dataset.speed) - value) < 0.01));
  player.set({ speed: value });
}
function next(id, by = 1) {
  const select = /** @type {HTMLSelectElement} */ (byId(id));
  select.selectedIndex = (select.selectedIndex + by + select.options.length) % select.options.length;
  select.dispatchEvent(new Event("change", { bubbles: true }));
}
function octave() {
  const on = byId("listen-octave").getAttribute("aria-pressed") !== "true";
  byId("listen-octave").setAttribute("aria-pressed", String(on));
  player.set({ octave: on ? 1 : 0 });
}

function along() {
  const on = byId("listen-chords").getAttribute("aria-pressed") !== "true";
  byId("listen-chords").setAttribute("aria-pressed", String(on));
  player.along = on;
  player.set({});
}

// Other chords under the chosen section, from its beginning.
function hearUnder(chords) {
  player.manifest.chords = chords;
  byId("listen-chords").setAttribute("aria-pressed", "true");
  player.along = true;
  player.play(range()[0]);
}

// tapping -------------------------------------------------------------------------------------------------------------------
let taps = [];
function tap() {
  if (!player.playing) {
    taps = [];
    player.play(player.at);
    say("Tap along, first on a one.", "calm");
    return;
  }
  taps.push(player.position());
  byId("tap").textContent = `Tap along (${taps.length})`;
  byId("taps-done").hidden = taps.length < 4;
}
const takeTaps = () => post("correct/taps", { taps: JSON.stringify(taps) }).then(() => (taps = []));

// clicks, forms, keys -------------------------------------------------------------------------------------------------------
const clicks = {
  "[data-section]": (e) => choose(Number(e.dataset.section)),
  "[data-bar]": (e) => show({ bar: e.dataset.bar }).then(() => player.seek(Number(e.dataset.at))),
  "[data-seek]": (e) => player.seek(Number(e.dataset.seek)),
  "[data-correct]": (e) => post(`correct/${e.dataset.correct}`, JSON.parse(e.dataset.values ?? "{}")),
  "[data-study-act]": (e) => post(e.dataset.studyAct),
  "[data-forget-note]": (e) => post("notes/remove", { id: e.dataset.forgetNote }),
  "[data-remove-study]": () => htmx.ajax("POST", `${path}/remove`, { source: root, swap: "none" }),
  "[data-chord]": (e) => correctChord(e),
  "[data-open]": (e) => /** @type {HTMLDialogElement} */ (byId(e.dataset.open)).showModal(),
  "[data-close]": (e) => e.closest("dialog").close(),
  "[data-listen=play]": toggle,
  "[data-listen=loop]": loop,
  "[data-speed]": (e) => setSpeed(Number(e.dataset.speed)),
  "#listen-octave": octave,
  "#listen-chords": along,
  "#tap": tap,
  "#taps-done": takeTaps,
  "[data-offer-under]": () =>
    htmx.ajax("GET", `${path}/under`, { target: "#under", swap: "innerHTML", values: here() }),
  "[data-under]": (e) => hearUnder(JSON.parse(e.dataset.under)),
  "[data-take]": (e) => {
    const s = player.manifest.sections[Number(field("chosen").value)];
    post("correct/chords", { first_bar: s.bar, bars: s.bars, line: e.dataset.take });
  },
  "#switch": (e) => mine.toggle(e.dataset),
};
document.addEventListener("click", (event) => {
  const target = /** @type {HTMLElement} */ (event.target);
  if (target.closest("#stone-box") && !target.closest("button")) {
    const box = byId("stone-box").getBoundingClientRect();
    player.seek((player.manifest.seconds * (event.clientX - box.left)) / box.width);
    return;
  }
  for (const [selector, act] of Object.entries(clicks)) {
    const found = target.closest(selector);
    if (found) {
      act(/** @type {HTMLElement} */ (found));
      if (event.detail && found.closest("#study-rail")) /** @type {HTMLElement} */ (found).blur();
      return;
    }
  }
});
// The edge between two sections is dragged to another bar.
document.addEventListener("pointerdown", (event) => {
  const edge = /** @type {HTMLElement} */ (event.target).closest?.(".stone-edge");
  if (!(edge instanceof HTMLElement) || event.button) return;
  event.preventDefault();
  const box = byId("stone-box").getBoundingClientRect(),
    m = player.manifest,
    barAt = (x) => {
      const seconds = (m.seconds * (x - box.left)) / box.width;
      return m.bars.reduce((best, at, i) => (Math.abs(at - seconds) < Math.abs(m.bars[best] - seconds) ? i : best), 0);
    };
  edge.classList.add("held");
  edge.setPointerCapture(event.pointerId);
  let bar = m.sections[Number(edge.dataset.edge)].bar;
  const begun = bar;
  edge.onpointermove = (move) => {
    bar = barAt(move.clientX);
    edge.style.left = `${(100 * m.bars[bar]) / m.seconds}%`;
  };
  edge.onpointerup = () => {
    edge.onpointermove = edge.onpointerup = null;
    edge.classList.remove("held");
    if (bar !== begun) post("correct/move", { section: edge.dataset.edge, at_bar: bar });
  };
});
// A chord is corrected where it stands.
function correctChord(button) {
  const box = document.createElement("input");
  box.className = "form-control chord-box";
  box.value = button.dataset.text;
  box.setAttribute("aria-label", "Chord");
  box.style.left = button.style.left;
  button.replaceWith(box);
  box.focus();
  box.select();
  const done = (keep) => {
    if (keep && box.value.trim() !== button.dataset.text)
      post("correct/chord", { beat: button.dataset.chord, chord: box.value });
    else box.replaceWith(button);
  };
  box.addEventListener("keydown", (event) => {
    event.stopPropagation();
    if (event.key === "Enter") done(true);
    else if (event.key === "Escape") done(false);
  });
  box.addEventListener("blur", () => box.isConnected && done(false));
}
const forms = {
  "[data-correct-form]": (f) => post(`correct/${f.dataset.correctForm}`, fieldsOf(f)),
  "[data-note-form]": (f) => note(f),
  "#beside-form": (f) => beside(fieldsOf(f)),
  "#build-form": (f) =>
    htmx.ajax("POST", `${path}/build`, { source: root, swap: "none", values: { ...here(), ...fieldsOf(f) } }),
  "#cut-form": (f) => {
    const { from_bar, bars } = fieldsOf(f);
    post("cut", { first_bar: Number(from_bar) - 1, bars });
  },
};
document.addEventListener("submit", (event) => {
  for (const [selector, act] of Object.entries(forms)) {
    const found = /** @type {HTMLElement} */ (event.target).closest(selector);
    if (!found) continue;
    event.preventDefault();
    act(/** @type {HTMLElement} */ (found));
    return;
  }
});
function note(form) {
  const values = fieldsOf(form);
  if (form.dataset.noteForm === "note" && values.pinned) {
    const bar = field("bar").value;
    values.at_s = String(bar === "" ? player.position() : player.manifest.bars[Number(bar)] + 0.001);
  }
  delete values.pinned;
  return post(`notes/${form.dataset.noteForm}`, values);
}
const beside = (values) => {
  mine.stop();
  return htmx.ajax("GET", `${path}/beside`, { target: "#beside", swap: "innerHTML", values: { ...here(), ...values } });
};
const changes = {
  "#listen-band": (e) => player.setBand(e.value === "" ? null : Number(e.value)),
  "#listen-side": (e) => player.setSide(e.value),
  "#listen-part": (e) => player.set({ part: e.value }),
  "#beside-section select": (e) => beside(fieldsOf(e.form)),
  "[data-instrument]": (e) => post("notes/state", { id: e.dataset.instrument, state: e.value }),
  "[data-place]": (e) => post("notes/place", { id: e.dataset.place, place: e.value }),
  "#tuned, #capo": fingered,
};
document.addEventListener("change", (event) => {
  const target = /** @type {HTMLElement} */ (event.target);
  for (const [selector, act] of Object.entries(changes)) if (target.matches(selector)) act(/** @type {any} */ (target));
});
byId("study-volume").addEventListener("input", (event) =>
  player.volume(Number(/** @type {HTMLInputElement} */ (event.target).value)),
);
function fingered() {
  fetch(`${path}/fingered?${new URLSearchParams({ tuned_down: input("tuned").value, capo: input("capo").value })}`)
    .then((r) => r.text())
    .then((text) => (byId("fingered-said").textContent = text))
    .catch(() => {});
}
const KEYS = {
  " ": toggle,
  l: loop,
  ArrowLeft: (e) => (e.shiftKey ? stepBar(-1) : step(-1)),
  ArrowRight: (e) => (e.shiftKey ? stepBar(1) : step(1)),
  1: () => setSpeed(1),
  2: () => setSpeed(0.6667),
  3: () => setSpeed(0.5),
  "[": () => next("listen-band", -1),
  "]": () => next("listen-band"),
  m: () => next("listen-side"),
  h: () => next("listen-part"),
  u: octave,
  k: along,
  t: tap,
  "-": () => post("correct/half"),
  "+": () => post("correct/double"),
  o: () => post("correct/shift", { by: 1 }),
  s: () => field("bar").value !== "" && post("correct/split", { at_bar: field("bar").value }),
  j: () => post("correct/join", { section: field("chosen").value }),
  n: () => byId("note-text").focus(),
  x: () => document.getElementById("switch")?.click(),
};
document.addEventListener(
  "keydown",
  (event) => {
    const target = /** @type {HTMLElement} */ (event.target);
    if (typing(event) || event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]"))
      return;
    if (event.key === " " && target.closest("button, summary, a")) return;
    const act = KEYS[event.key.length === 1 ? event.key.toLowerCase() : event.key];
    if (!act) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    act(event);
  },
  true,
);
