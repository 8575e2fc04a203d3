// The bench: notes drawn on the ladder, hits on the lanes, chords in a line; heard at the next bar; edits one at a time.
import { fieldsOf } from "./dom.js";
import { handrail } from "./handrail.js";
import { hear, listenAt, quiet } from "./hearing.js";
import { ladder } from "./ladder.js";
import { lanes } from "./lanes.js";
import { picker } from "./picker.js";
import { pageQueue } from "./queue.js";
import { recorder } from "./recorder.js";
import { songPage } from "./songpage.js";

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
// What a change would bring is said before it is made.
const foretell = (form) =>
  htmx.ajax("GET", `${path}/foretold`, {
    target: "#foretold",
    swap: "innerHTML",
    values: { ...here(), ...formValues(form) },
  });
function hearForm(button) {
  if (rail.player.playing) rail.player.stop();
  hear(`${path}/hear.wav?${new URLSearchParams({ ...here(), ...formValues(button.closest("form")) })}`, button);
}
function stepSection(by) {
  const all = [...$("bench-section").options].map((o) => Number(o.value)),
    next = all[all.indexOf(chosen().section) + by];
  if (next) choose({ section: next });
}
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
// keys -------------------------------------------------------------------------------------------------------------------
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
  v: () => taking.toggle(),
  e: () => $("chords").focus(),
  "+": () => document.querySelector("[data-sounds]").click(),
  "[": () => stepLayer(-1),
  "]": () => stepLayer(1),
  "{": () => stepSection(-1),
  "}": () => stepSection(1),
  pageup: () => stepPhrase(-1),
  pagedown: () => stepPhrase(1),
  a: () => {
    if (rail.player.playing) rail.player.stop();
    hear(`${path}/hear.wav?${new URLSearchParams(here())}`);
  },
};
function ownKey(event, pass) {
  if (pass === "control") return event.altKey && !event.ctrlKey && taking.key(event); // Alt strikes hard while one records
  if (taking.key(event) || notes.key(event) || drums.key(event)) return true;
  const digit = document.querySelector(`[data-digit="${event.key}"]`);
  digit?.click();
  return Boolean(digit);
}
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
function settled() {
  notes.refresh();
  drums.refresh();
  taking.refresh();
  listen();
  look();
  if (back && $(back) && document.activeElement?.id !== back) $(back).focus({ preventScroll: true });
  if (back === "plot") notes.showCursor();
  if (back === "lanes") drums.showCursor();
  back = "";
}
function setAside(field_) {
  field(field_.id).value = field_.value;
  field_.blur();
}
function octaveUp(box) {
  ears.up.clear();
  if (box.checked) for (const layer of facts().lows) ears.up.add(layer);
  return listen();
}
function loopOther(list) {
  if (rail.player.loop) {
    rail.setLoop(rail.player.rangeOf(chosen().section, looped()));
    if (rail.player.playing) rail.player.play(rail.player.loop.from);
  }
  list.blur();
}
page.listen({
  edit,
  choose: () => {},
  clicks: {
    "[data-next]": (button) => edit({ kind: "next", next: button.dataset.next }).then(loopOn),
    "[data-layer]": (tab) => choose({ layer: Number(tab.dataset.layer) }),
    "[data-phrase]": (button) => choose({ phrase: Number(button.dataset.phrase) }),
    "[data-step-section]": (button) => stepSection(Number(button.dataset.stepSection)),
    "[data-go]": (button) => {
      const [section, layer, phrase] = button.dataset.go.split(":").map(Number);
      return choose({ section, layer, phrase });
    },
    "[data-hear-form]": hearForm,
    "[data-copies]": () => htmx.ajax("GET", `${path}/copies`, { target: "#copies", swap: "innerHTML", values: here() }),
    "[data-chords-here]": () => edit({ kind: "set_chords_here", chords: $("chords").value, here: 1 }),
    "[data-record]": () => taking.toggle(),
    "[data-click]": clicking,
  },
  changes: {
    "#bench-section": (list) => choose({ section: Number(list.value) }),
    "#other-layer": (list) => choose({ layer: Number(list.value) }),
    "[data-edit=transform_line] [name=transformation]": (list) => foretell(list.form),
    "#reach": setAside,
    "#write": setAside,
    "#steps": setAside,
    "#rungs": (box) => show({ rungs: box.checked ? "all" : "" }),
    "#low-up": octaveUp,
    "#loop-what": loopOther,
  },
  values: formValues,
  early: ownKey,
  keys,
  fields: ["chords"],
  step: stepSection,
  settled,
});

// coming back: what is looped and how it is heard --------------------------------------------------------------------------
const memory = `ears:${song}`;
const heardAs = () => Object.fromEntries(Object.entries(ears).map(([name, ids]) => [name, [...ids]]));
window.addEventListener("pagehide", () => sessionStorage.setItem(memory, JSON.stringify(heardAs())));
for (const [name, ids] of Object.entries(JSON.parse(sessionStorage.getItem(memory) ?? "{}")))
  for (const id of ids) ears[name].add(id);
const loop = rail.player.loop;
if (loop) $("loop-what").value = loop.around ? "hole" : loop.bars ? "phrase" : "section";
picker(edit, () => chosen().section);
listen();
if (new URLSearchParams(location.search).has("begin")) {
  $("plot")?.focus({ preventScroll: true });
}
