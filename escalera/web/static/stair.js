// The stair page: edits one at a time, treads and tiles by hand and keys, listening.
import {
  arranging,
  clearRange,
  copyKey,
  extend,
  openBrief,
  openChecks,
  openForm,
  openIdeas,
  openLayout,
  openMoves,
  tileGesture,
} from "./arranging.js";
import { handrail } from "./handrail.js";
import { listenAt, quiet } from "./hearing.js";
import { keepOption, openOptions, options } from "./options.js";
import { picker } from "./picker.js";
import { pageQueue, state } from "./queue.js";
import { formEdit, hearAlone, refocus, restore, shape } from "./shaping.js";
import { say } from "./shell.js";
import { songPage } from "./songpage.js";

const root = document.querySelector("[data-song]"),
  song = root.dataset.song,
  $ = (id) => document.getElementById(id);
const selection = () => state().select;
const chosenSection = () =>
  Number(selection().split(":")[1]) || Number($("stair").querySelector(".tread-group")?.dataset.section ?? 0);
const { post, ask, after } = pageQueue(root, `/songs/${song}`);
const edit = (values) => post("edits", values);
function select(text) {
  const here = selection().split(":")[1];
  if (text.startsWith("layer:0:") && Number(here)) text = text.replace("layer:0:", `layer:${here}:`);
  return ask("inspector", { select: text }, () => mark(text));
}
function mark(text) {
  document.querySelector("#state [name=select]").value = text;
  const [what, section, layer, phrase] = text.split(":");
  for (const step of document.querySelectorAll(".step"))
    step.classList.toggle(
      "chosen",
      (what === "section" || what === "tile") && step.dataset.select === `section:${section}`,
    );
  for (const name of document.querySelectorAll(".wall-name button"))
    name.classList.toggle(
      "chosen",
      (what === "layer" || what === "tile") && name.dataset.select === `layer:0:${layer}`,
    );
  document.querySelector(".tile.chosen")?.classList.remove("chosen");
  if (what === "tile") document.querySelector(`[data-tile="${section}:${layer}:${phrase}"]`)?.classList.add("chosen");
  rail.names();
}

// Groups: which layers are ticked goes into the form's list; a group's row closes and opens its layers, and stays so.
document.addEventListener("change", (event) => {
  const form = event.target.closest?.("[data-group-form]");
  if (form) writeMembers(form);
});
document.addEventListener(
  "submit",
  (event) => {
    if (event.target.matches?.("[data-group-form]")) writeMembers(event.target);
  },
  true,
);
function writeMembers(form) {
  const list = form.querySelector("[name=layer_ids]"),
    ticked = [...form.querySelectorAll("[data-member]:checked")].map((box) => Number(box.value));
  list.value = JSON.stringify([Number(list.dataset.own), ...ticked]);
}
const closed = new Set(JSON.parse(localStorage.getItem(`closed-groups-${song}`) ?? "[]"));
function showGroups() {
  for (const row of document.querySelectorAll("[data-in-group]")) row.hidden = closed.has(row.dataset.inGroup);
  for (const button of document.querySelectorAll("[data-group]")) {
    const open = !closed.has(button.dataset.group);
    button.setAttribute("aria-expanded", String(open));
    button.textContent = `${open ? "▾" : "▸"} ${button.dataset.group}`;
  }
}
document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-group]");
  if (!button) return;
  const { group } = button.dataset;
  if (!closed.delete(group)) closed.add(group);
  localStorage.setItem(`closed-groups-${song}`, JSON.stringify([...closed]));
  showGroups();
});
document.addEventListener("htmx:afterSwap", showGroups);
document.addEventListener("htmx:oobAfterSwap", showGroups);
showGroups();

// A stand-in is exchanged for the next sound of its kind; a layer of one's own only by its inspector.
function exchangeSound() {
  const button = document.querySelector("#inspector [data-exchange]");
  if (button instanceof HTMLElement) button.click();
  else say("Choose a stand-in first: a layer with a dotted name. Layers of your own keep their sound.");
}

// listening: the playhead over the stair and the wall ---------------------------------------------------------------
const rail = handrail({
  chosen: () => {
    return Number(selection().split(":")[1]) || 0;
  },
  before: quiet,
  onPlace: (at, player) => {
    const total = player.manifest.sections.reduce((n, s) => n + s.bars.length - 1, 0);
    const stair = $("stair").getBoundingClientRect(),
      stage = $("stage"),
      box = $("stage-inner").getBoundingClientRect();
    const head = $("playhead");
    head.hidden = !total;
    const x = stair.left - box.left + (stair.width * (at.barIndex + at.share)) / Math.max(1, total);
    head.style.transform = `translateX(${x}px)`;
    if (
      player.playing &&
      stage.scrollWidth > stage.clientWidth + 4 &&
      (x < stage.scrollLeft + 150 || x > stage.scrollLeft + stage.clientWidth - 60)
    )
      stage.scrollLeft = x - 200;
  },
});
const player = rail.player;

const page = songPage({ song, place: "stair", post, rail, select: selection });
function tileValues(tile) {
  const [section_id, layer_id, phrase] = tile.dataset.tile.split(":");
  return { section_id, layer_id, phrase };
}
const toggleTile = (tile) => edit({ kind: "toggle_tile", ...tileValues(tile) });
const openTile = (tile) => {
  const t = tileValues(tile);
  return select(`tile:${t.section_id}:${t.layer_id}:${t.phrase}`);
};

document.addEventListener("input", (event) => {
  if (event.target.dataset.pair) $(event.target.dataset.pair).value = event.target.value;
});

// treads: dragged, or moved by keys; sent when the hand rests ------------------------------------------------------
const TOP = 50,
  FLOOR = 238,
  yOf = (e) => FLOOR - (Math.max(0, Math.min(10, e)) * (FLOOR - TOP)) / 10;
const round = (v) => Math.round(Math.max(0, Math.min(10, v)) * 10) / 10;
let drag = null,
  dragged = false,
  resting = null,
  moving = null; // moving: keys pressed and not yet sent, kept over answers
// every end of a piece goes along with the start, with the end, or (when both move alike) with the whole
function draw(group, start, end) {
  const tread = group.querySelector(".tread"),
    up = start - Number(tread.dataset.fromStart),
    down = end - Number(tread.dataset.fromEnd);
  let pieces = [];
  for (const line of group.querySelectorAll("line")) {
    const [e, s, f] = ["e", "start", "end"].map((name) => line.dataset[name].split(" ").map(Number));
    const y = [0, 1].map((k) => yOf(e[k] + (up === down ? up : up * s[k] + down * f[k])));
    line.setAttribute("y1", y[0]);
    line.setAttribute("y2", y[1]);
    pieces = [...pieces, ...y];
  }
  const [a, b] = group.querySelectorAll("circle");
  a.setAttribute("cy", pieces[0]);
  b.setAttribute("cy", pieces.at(-1));
  Object.assign(tread.dataset, { start, end });
  tread.setAttribute("aria-valuenow", ((start + end) / 2).toFixed(1));
  tread.setAttribute("aria-valuetext", `${start.toFixed(1)} to ${end.toFixed(1)}`);
}
// with Shift only the phrase under the hand is moved: its part of the line is drawn apart until the hand lets go
function phraseUnder(group, clientX) {
  const box = $("stair").getBoundingClientRect(),
    { x, width, phrases } = group.dataset,
    edges = phrases.split(" ").map(Number),
    share = (((clientX - box.left) / box.width) * 100 - x) / width,
    phrase = Math.max(
      0,
      edges.findLastIndex((edge) => edge <= share),
    ),
    at = (s) => `${Number(x) + Number(width) * s}%`;
  return { phrase: Math.min(phrase, edges.length - 2), x1: at(edges[phrase]), x2: at(edges[phrase + 1]) };
}
function lift(change) {
  let line = drag.group.querySelector(".tread-lift");
  if (!line) {
    line = document.createElementNS("http://www.w3.org/2000/svg", "line");
    line.classList.add("tread-lift");
    for (const end of ["x1", "x2"]) line.setAttribute(end, drag.lifted[end]);
    drag.group.append(line);
  }
  drag.by = Math.round(change * 10) / 10;
  const y = drag.y - $("stair").getBoundingClientRect().top - (drag.by * (FLOOR - TOP)) / 10;
  for (const end of ["y1", "y2"]) line.setAttribute(end, String(y));
}
function send(section_id, start, end) {
  clearTimeout(resting);
  moving = null;
  edit({ kind: "set_target", section_id, start, end });
}
const groupOf = (section) => document.querySelector(`.tread-group[data-section="${section}"]`);
document.addEventListener("pointerdown", (event) => {
  const group = event.target.closest(".tread-group");
  dragged = false;
  if (!group || event.button) return;
  const tread = group.querySelector(".tread");
  drag = {
    group,
    y: event.clientY,
    start: Number(tread.dataset.start),
    end: Number(tread.dataset.end),
    which: event.target.matches("circle") ? event.target.dataset.end : "both",
    lifted: event.shiftKey ? phraseUnder(group, event.clientX) : null,
    moved: false,
    by: 0,
  };
  tread.focus({ preventScroll: true });
  event.preventDefault();
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const change = ((drag.y - event.clientY) * 10) / (FLOOR - TOP);
  if (Math.abs(event.clientY - drag.y) > 2) drag.moved = dragged = true;
  if (drag.lifted) return drag.moved && lift(change);
  draw(
    drag.group,
    drag.which === "end" ? drag.start : round(drag.start + change),
    drag.which === "start" ? drag.end : round(drag.end + change),
  );
});
document.addEventListener("pointerup", () => {
  if (!drag) return;
  if (drag.moved && drag.lifted) {
    const { group, lifted, by } = drag;
    if (by) edit({ kind: "lift_phrase_target", section_id: group.dataset.section, phrase: lifted.phrase, by });
    else group.querySelector(".tread-lift")?.remove();
  } else if (drag.moved) {
    const { start, end } = drag.group.querySelector(".tread").dataset;
    send(drag.group.dataset.section, start, end);
  } else select(`section:${drag.group.dataset.section}`);
  drag = null;
});
function treadKey(event, tread) {
  const group = tread.closest(".tread-group"),
    big = event.shiftKey ? 0.5 : 0.1;
  let start = Number(tread.dataset.start),
    end = Number(tread.dataset.end);
  if (event.key === "ArrowUp") {
    start += big;
    end += big;
  } else if (event.key === "ArrowDown") {
    start -= big;
    end -= big;
  } else if (event.key === "[") start -= 0.1;
  else if (event.key === "{") start += 0.1;
  else if (event.key === "]") end -= 0.1;
  else if (event.key === "}") end += 0.1;
  else if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
    const all = [...document.querySelectorAll(".tread")],
      next = all[all.indexOf(tread) + (event.key === "ArrowRight" ? 1 : -1)];
    if (next) {
      next.focus();
      select(`section:${next.closest(".tread-group").dataset.section}`);
    }
    return true;
  } else if (event.key === "Enter") {
    select(`section:${group.dataset.section}`);
    return true;
  } else return false;
  if (moving && moving.section !== group.dataset.section) send(moving.section, moving.start, moving.end);
  moving = { section: group.dataset.section, start: round(start), end: round(end) };
  draw(group, moving.start, moving.end);
  clearTimeout(resting);
  resting = setTimeout(() => send(moving.section, moving.start, moving.end), 350);
  return true;
}

// the wall: one tile in the tab order, arrows between tiles ---------------------------------------------------------
function rove(tile) {
  for (const other of document.querySelectorAll('.tile[tabindex="0"]')) other.tabIndex = -1;
  tile.tabIndex = 0;
  roving = tile.id;
}
let roving = "";
function ready() {
  const tile = $(roving) ?? document.querySelector(".tile");
  if (tile) rove(tile);
  for (const range of document.querySelectorAll("input[data-log]")) logarithmic(range);
}
function logarithmic(range) {
  if (range.dataset.ready) return;
  const field = $(range.dataset.pair),
    low = Math.log(Number(range.min)),
    high = Math.log(Number(range.max));
  Object.assign(range, { min: 0, max: 1000, step: 1 });
  range.value = (1000 * (Math.log(Number(field.value)) - low)) / (high - low);
  range.dataset.ready = "1";
  range.addEventListener("input", () => {
    field.value = String(Math.round(Math.exp(low + (Number(range.value) / 1000) * (high - low))));
  });
}
function tileKey(event, tile) {
  const row = [...tile.parentElement.children],
    column = row.indexOf(tile);
  const rows = [...document.querySelectorAll(".wall-tiles")],
    r = rows.indexOf(tile.parentElement);
  const go = {
    ArrowLeft: row[column - 1],
    ArrowRight: row[column + 1],
    ArrowUp: rows[r - 1]?.children[column],
    ArrowDown: rows[r + 1]?.children[column],
    Home: row[0],
    End: row.at(-1),
  };
  if (event.key in go) {
    if (go[event.key]) {
      rove(go[event.key]);
      go[event.key].focus();
    }
    return true;
  }
  if (event.key === " ") {
    toggleTile(tile);
    return true;
  }
  if (event.key === "Enter") {
    openTile(tile);
    return true;
  }
  return false;
}
function clickTile(tile, event) {
  if (event.altKey) extend(document.activeElement?.closest?.(".tile") ?? tile, tile);
  else clearRange();
  rove(tile);
  if (!event.altKey) event.shiftKey ? openTile(tile) : toggleTile(tile);
}
function stepSection(by) {
  const all = [...document.querySelectorAll(".tread-group")].map((g) => Number(g.dataset.section)),
    next = all[all.indexOf(chosenSection()) + by];
  if (next) select(`section:${next}`);
}
// What carries a join stands in the inspector of the section that it leads into.
function showJoin(sign) {
  select(`section:${sign.dataset.join}`).then(() => {
    const said = document.querySelector("#inspector [data-join-said]");
    said?.scrollIntoView({ block: "center" });
    said?.classList.add("pointed");
  });
}
function whatWouldHelp() {
  const ask = document.querySelector("#inspector [data-helps]");
  if (ask instanceof HTMLElement) ask.click();
  else select(`section:${chosenSection()}`).then(() => document.querySelector("#inspector [data-helps]")?.click());
}
// To the inspector's first control, and back to where one was.
let before = null;
function focusInspector() {
  const inside = $("inspector").contains(document.activeElement);
  if (inside) return (before?.isConnected ? before : document.querySelector(".tile"))?.focus();
  before = document.activeElement;
  $("inspector").querySelector("button, input:not([type=hidden]), select")?.focus();
}
// An answer that was asked for is brought into sight.
document.addEventListener("htmx:afterSwap", (event) => {
  if (/^(helps-|song-helps)/.test(event.detail.target?.id ?? ""))
    event.detail.target.scrollIntoView({ block: "nearest" });
});
function ownKey(event, pass) {
  if (pass === "control") return copyKey(event, chosenSection());
  const tile = event.target.closest?.("[data-tile]"),
    tread = event.target.closest?.(".tread");
  if (event.key === "Enter" && event.target.matches?.("[data-join]")) {
    showJoin(event.target);
    return true;
  }
  return (tile && (tileGesture(event, tile) || tileKey(event, tile))) || (tread && treadKey(event, tread));
}

// the inspector keeps what was folded open and how far it was scrolled; a late measurement never takes a field away -----
// What the inspector is about, without the phrase and the section that it is compared with.
const inspected = () => selection().split(":").slice(0, 3).join(":");
const open = new Set();
let scrolled = { select: "", top: 0 },
  answer = "";
document.addEventListener(
  "toggle",
  (event) => {
    const name = event.target.querySelector?.(":scope > summary")?.textContent;
    if (name && event.target.closest("#inspector")) open[event.target.open ? "add" : "delete"](name);
  },
  true,
);
document.addEventListener(
  "scroll",
  (event) => {
    if (event.target.id === "inspector") scrolled = { select: inspected(), top: event.target.scrollTop };
  },
  true,
);
document.addEventListener("htmx:beforeSwap", (event) => {
  answer = event.detail.pathInfo?.requestPath ?? "";
});
// What was chosen while a measurement was on its way stays chosen: its answer is about another selection, and is asked for again.
let measuredFor = "";
document.addEventListener("htmx:configRequest", (event) => {
  if (event.detail.path.includes("/measured")) measuredFor = selection();
});
document.addEventListener("htmx:oobBeforeSwap", (event) => {
  const stale = answer.includes("/measured") && measuredFor !== selection();
  if (stale && ["inspector", "state"].includes(event.detail.target?.id)) event.detail.shouldSwap = false;
});
// A measurement still on its way belongs to the state that is being replaced, and must not bring it back.
document.addEventListener("htmx:oobBeforeSwap", (event) => {
  if (event.detail.target?.id === "state" && $("pending")) htmx.trigger("#pending", "htmx:abort");
});
document.addEventListener("htmx:oobBeforeSwap", (event) => {
  const busy = document.activeElement?.closest("#inspector form");
  if (event.detail.target?.id === "inspector" && answer.includes("/measured") && busy) event.detail.shouldSwap = false;
});
function unfold() {
  for (const details of document.querySelectorAll("#inspector details"))
    if (open.has(details.querySelector("summary").textContent)) details.open = true;
  if (scrolled.select === inspected()) $("inspector").scrollTop = scrolled.top;
}

// after every answer: the player takes the new manifest, the wall its tab stop ---------------------------------------
function refreshed(fresh) {
  if (fresh)
    $("stage-inner").style.setProperty(
      "--bars",
      player.manifest.sections.reduce((n, s) => n + s.bars.length - 1, 0),
    );
  if (moving && groupOf(moving.section)) draw(groupOf(moving.section), moving.start, moving.end);
  ready();
  unfold();
  restore();
  refocus();
}
page.listen({
  edit,
  choose: (text, element) => {
    if (!dragged) select(text).then(() => element.dataset.focus && $(element.dataset.focus)?.focus());
  },
  clicks: {
    "[data-tile]": clickTile,
    "[data-join]": (sign) => showJoin(sign),
    "[data-mix]": () => select(`mix:${chosenSection()}`),
  },
  changes: {
    "[data-against]": (field) => {
      const [what, section, layer = "0", phrase = "0"] = selection().split(":");
      return select([what, section, layer, phrase, field.value].join(":"));
    },
    "[data-pair]": (field) => {
      field.closest("form[data-auto]")?.requestSubmit();
      field.blur();
    },
  },
  values: formEdit,
  early: ownKey,
  keys: {
    u: whatWouldHelp,
    ";": () => focusInspector(),
    a: hearAlone,
    m: () => openMoves(),
    f: openForm,
    q: () => openLayout(),
    x: exchangeSound,
    k: () => openChecks(),
    o: () => openOptions(),
    s: () => keepOption(),
  },
  step: stepSection,
  capture: false,
  settled: refreshed,
});
ready();
listenAt(rail.volume);
shape({ edit, song });
picker(edit, chosenSection);
const report = document.querySelector("dialog[data-opens]");
if (report instanceof HTMLDialogElement) report.showModal();
arranging({ song, edit, after, chosen: chosenSection });
const wish = new URLSearchParams(location.search).get("open"),
  wishes = {
    checks: () => openChecks(),
    options: () => openOptions(),
    ideas: () => openIdeas(),
    brief: () => openBrief(),
  };
options({ song, rail, edit, after, chosen: chosenSection });
if (wishes[wish]) {
  history.replaceState(null, "", location.pathname);
  wishes[wish]();
}
