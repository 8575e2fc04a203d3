// The bench: notes drawn on the ladder, hits on the lanes, chords in a line; heard at the next bar; edits one at a time.
import { fieldsOf } from "./dom.js";
import { handrail } from "./handrail.js";
import { hear, listenAt, quiet } from "./hearing.js";
import { ladder } from "./ladder.js";
import { lanes } from "./lanes.js";
import { picker } from "./picker.js";
import { pageQueue } from "./queue.js";
import { recorder } from "./recorder.js";
import { typing } from "./shell.js";
import { songPage } from "./songpage.js";
import { restoreTabs } from "./tabs.js";

const root = document.querySelector("[data-song]"),
  song = root.dataset.song,
  path = `/songs/${song}/bench`,
  $ = (id) => document.getElementById(id);
const { post, ask } = pageQueue(root, path);
const field = (name) => document.querySelector(`#state [name=${name}]`);
const here = () =>
  Object.fromEntries(["select", "rungs", "reach", "write", "steps"].map((name) => [name, field(name).value]));
const edit = (values) => post("edits", { ...here(), ...values });
const show = (change) => {
  for (const [name, value] of Object.entries(change)) field(name).value = value;
  return ask("show", here());
};
const facts = () => JSON.parse($("bench-facts").textContent);
const chosen = () => {
  const [, section, layer, phrase] = field("select").value.split(":").map(Number);
  return { section, layer, phrase };
};
const place = () => {
  const at = chosen();
  return { section_id: at.section, layer_id: at.layer, phrase: at.phrase };
};
/** @param {{ section?: number, layer?: number, phrase?: number }} [to] */
const choose = ({ section, layer, phrase } = {}) => {
  const at = chosen();
  return show({
    select: `tile:${section ?? at.section}:${layer ?? at.layer}:${phrase ?? (section && section !== at.section ? 0 : at.phrase)}:0`,
  });
};

// listening ------------------------------------------------------------------------------------------------------------
const looped = () => ({ phrase: { bars: facts().bars }, hole: { around: 2 } })[$("loop-what").value] ?? {};
const rail = handrail({
  chosen: () => chosen().section,
  before: quiet,
  looped,
  onPlace: (at, player) => {
    const now = player.manifest.sections[at.index],
      {
        bars: [first, count],
      } = facts();
    const into = at.bar - now.bar + at.share - first,
      inside = now.id === chosen().section && into >= 0 && into < count;
    for (const head of document.querySelectorAll("[data-head]")) {
      head.hidden = !inside;
      if (inside) head.style.left = `${(100 * into) / count}%`;
    }
  },
});
listenAt(rail.volume);
const page = songPage({ song, place: "bench", post, rail, here, select: () => field("select").value });

// layers heard alone, left out, an octave up: for the ear only, kept while this window is open
const ears = { alone: new Set(), off: new Set(), up: new Set() };
const query = () =>
  new URLSearchParams(
    Object.entries(ears)
      .filter(([, ids]) => ids.size)
      .map(([name, ids]) => [name, [...ids].sort((a, b) => a - b).join(",")]),
  )
    .toString()
    .replaceAll("%2C", ",");
function listen() {
  rail.player.hear(query());
  for (const tab of document.querySelectorAll("[data-layer]")) {
    const id = Number(tab.dataset.layer),
      words = [ears.alone.has(id) ? "alone" : "", ears.up.has(id) ? "octave up" : ""].filter(Boolean).join(", ");
    tab.querySelector(".heard-as").textContent = words;
    tab.classList.toggle("is-off", ears.off.has(id) || (ears.alone.size > 0 && !ears.alone.has(id)));
  }
  const up = $("low-up");
  if (up) up.checked = ears.up.size > 0;
}
function toggle(set, id) {
  if (set.has(id)) set.delete(id);
  else set.add(id);
  listen();
}

// notes, hits, recording -------------------------------------------------------------------------------------------------
const tools = { song, edit, place, facts, field, here, path, volume: rail.volume, layer: () => chosen().layer };
const notes = ladder(tools);
const drums = lanes(tools);
const taking = recorder({ ...tools, rail, sketch: notes.sketch });

// clicks -----------------------------------------------------------------------------------------------------------------
function formValues(form) {
  /** @type {Record<string, any>} */
  const values = { kind: form.dataset.edit, ...fieldsOf(form) };
  if (form.dataset.chosen !== undefined && notes.chosen().length) values.notes = JSON.stringify(notes.chosen());
  return values;
}
function hearForm(button) {
  if (rail.player.playing) rail.player.stop();
  hear(`${path}/hear.wav?${new URLSearchParams({ ...here(), ...formValues(button.closest("form")) })}`, button);
}
function stepSection(by) {
  const all = [...$("bench-section").options].map((o) => Number(o.value)),
    next = all[all.indexOf(chosen().section) + by];
  if (next) choose({ section: next });
}
document.addEventListener("click", (event) => {
  const hit = (selector) => event.target.closest?.(selector);
  if (hit("[data-do]")) return edit(JSON.parse(hit("[data-do]").dataset.do));
  if (hit("[data-next]")) return edit({ kind: "next", next: hit("[data-next]").dataset.next }).then(loopOn);
  if (hit("[data-layer]")) return choose({ layer: Number(hit("[data-layer]").dataset.layer) });
  if (hit("[data-phrase]")) return choose({ phrase: Number(hit("[data-phrase]").dataset.phrase) });
  if (hit("[data-step-section]")) return stepSection(Number(hit("[data-step-section]").dataset.stepSection));
  if (hit("[data-go]")) {
    const [section, layer, phrase] = hit("[data-go]").dataset.go.split(":").map(Number);
    return choose({ section, layer, phrase });
  }
  if (hit("[data-hear-form]")) return hearForm(hit("[data-hear-form]"));
  if (hit("[data-copies]"))
    return htmx.ajax("GET", `${path}/copies`, { target: "#copies", swap: "innerHTML", values: here() });
  if (hit("[data-chords-here]")) return edit({ kind: "set_chords_here", chords: $("chords").value, here: 1 });
  if (hit("[data-record]")) return taking.toggle();
  if (hit("[data-click]")) return clicking();
  page.click(event);
});
function clicking() {
  rail.player.clicking = !rail.player.clicking;
  $("click").setAttribute("aria-pressed", String(rail.player.clicking));
  if (rail.player.playing) rail.player.play(rail.player.position());
}
// A first layer should be heard at once, and go round.
function loopOn() {
  if (!rail.player.playing) {
    rail.player.loop = null;
    rail.actions.loop();
  }
}
document.addEventListener("submit", (event) => {
  const form = event.target.closest("[data-edit]");
  if (!form) return;
  event.preventDefault();
  edit(formValues(form));
});
document.addEventListener("change", (event) => {
  const { id, value, checked } = event.target;
  if (id === "bench-section") return choose({ section: Number(value) });
  if (id === "other-layer") return choose({ layer: Number(value) });
  if (id === "reach" || id === "write" || id === "steps") {
    field(id).value = value;
    event.target.blur();
    return;
  }
  if (id === "rungs") return show({ rungs: checked ? "all" : "" });
  if (id === "low-up") {
    ears.up.clear();
    if (checked) for (const layer of facts().lows) ears.up.add(layer);
    return listen();
  }
  if (id === "loop-what") {
    if (rail.player.loop) {
      rail.setLoop(rail.player.rangeOf(chosen().section, looped()));
      if (rail.player.playing) rail.player.play(rail.player.loop.from);
    }
    event.target.blur();
  }
});

// keys -------------------------------------------------------------------------------------------------------------------
const steps = { "[": -1, "]": 1 };
function stepLayer(by) {
  const all = [...document.querySelectorAll("[data-layer]")].map((t) => Number(t.dataset.layer)),
    next = all[all.indexOf(chosen().layer) + by];
  if (next) choose({ layer: next });
}
function stepPhrase(by) {
  const button = document.querySelector(`[data-phrase="${chosen().phrase + by}"]`);
  if (button) button.click();
  else stepSection(by);
}
const keys = {
  s: () => toggle(ears.alone, chosen().layer),
  m: () => toggle(ears.off, chosen().layer),
  o: () => toggle(ears.up, chosen().layer),
  x: clicking,
  r: () => taking.toggle(),
  e: () => $("chords").focus(),
  "+": () => document.querySelector("[data-sounds]").click(),
  "{": () => stepSection(-1),
  "}": () => stepSection(1),
  pageup: () => stepPhrase(-1),
  pagedown: () => stepPhrase(1),
  a: () => {
    if (rail.player.playing) rail.player.stop();
    hear(`${path}/hear.wav?${new URLSearchParams(here())}`);
  },
};
document.addEventListener(
  "keydown",
  (event) => {
    if (event.target.id === "chords" && event.key === "Escape") {
      event.target.blur();
      return;
    }
    if (typing(event)) return;
    if (page.control(event)) return;
    const key = event.key.toLowerCase(),
      digit = document.querySelector(`[data-digit="${event.key}"]`);
    if (taking.key(event) || notes.key(event) || drums.key(event)) {
      event.preventDefault();
      event.stopImmediatePropagation();
      return;
    }
    if (event.key in steps) stepLayer(steps[event.key]);
    else if (digit) digit.click();
    else if (keys[key]) {
      event.preventDefault();
      keys[key]();
    } else page.key(event, "r");
  },
  true,
);
document.addEventListener("keyup", (event) => taking.up(event));

// Panels that are asked for while they are looked at: what was chosen in them outlives edits, and the tune is read over the whole song.
/** @type {Record<string, [string, () => string]>} */
const lazy = {
  make: ["make-forms", () => `${field("select").value}:${$("side").dataset.notes}`],
  tune: ["tune-map", () => `${field("base").value} ${field("select").value}`],
};
const loaded = {};
function look() {
  for (const [name, [id, key]] of Object.entries(lazy)) {
    if ($(`panel-${name}`)?.hidden !== false || (loaded[name] === key() && $(id).childElementCount)) continue;
    loaded[name] = key();
    htmx.ajax("GET", `${path}/${name}`, { target: `#${id}`, swap: "innerHTML", values: here() });
  }
}
document.addEventListener("click", (event) => {
  if (event.target.closest?.("[data-tab], [data-tab-go]")) setTimeout(look);
});

// after every answer -------------------------------------------------------------------------------------------------------
let back = "";
document.addEventListener("htmx:oobBeforeSwap", () => {
  back ||= document.activeElement?.id ?? "";
});
document.addEventListener("htmx:afterSettle", () => {
  rail.refresh();
  rail.names();
  restoreTabs();
  notes.refresh();
  drums.refresh();
  taking.refresh();
  listen();
  look();
  if (back && $(back) && document.activeElement?.id !== back) $(back).focus({ preventScroll: true });
  if (back === "plot") notes.showCursor();
  if (back === "lanes") drums.showCursor();
  back = "";
});

// coming back: what is looped and how it is heard --------------------------------------------------------------------------
const memory = `ears:${song}`;
const heardAs = () => Object.fromEntries(Object.entries(ears).map(([name, ids]) => [name, [...ids]]));
window.addEventListener("pagehide", () => sessionStorage.setItem(memory, JSON.stringify(heardAs())));
for (const [name, ids] of Object.entries(JSON.parse(sessionStorage.getItem(memory) ?? "{}")))
  for (const id of ids) ears[name].add(id);
const loop = rail.player.loop;
if (loop) $("loop-what").value = loop.around ? "hole" : loop.bars ? "phrase" : "section";
picker(edit);
restoreTabs();
listen();
if (new URLSearchParams(location.search).has("begin")) {
  $("plot")?.focus({ preventScroll: true });
}
