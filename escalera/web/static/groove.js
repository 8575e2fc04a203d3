// The groove page: hits set by hand and keys, beats said and tapped; heard at once; edits one at a time.
import { fieldsOf, fit } from "./dom.js";
import { handrail } from "./handrail.js";
import { hear, listenAt, quiet } from "./hearing.js";
import { pageQueue } from "./queue.js";
import { say } from "./shell.js";
import { songPage, stepAlong } from "./songpage.js";

const root = document.querySelector("[data-song]"),
  song = root.dataset.song,
  path = `/songs/${song}/groove`,
  $ = (id) => document.getElementById(id);
const { post, ask } = pageQueue(root, path);
const field = (name) => document.querySelector(`#state [name=${name}]`);
const here = () => Object.fromEntries(["select", "step", "shown"].map((name) => [name, field(name).value]));
const edit = (values) => post("edits", { ...here(), ...values });
const show = (change) => {
  for (const [name, value] of Object.entries(change)) field(name).value = value;
  return ask("show", here());
};
const section = () => Number(field("select").value.split(":")[1]);

// listening ----------------------------------------------------------------------------------------------------------
const rail = handrail({
  chosen: section,
  before: quiet,
  onPlace: (at, player) => {
    const head = $("strip-head"),
      now = player.manifest.sections[at.index],
      line = document.querySelector(".groove-line");
    if (!head || !line || !now) return;
    const beats = now.beats[at.bar - now.bar] ?? 4,
      bars = Number(line.dataset.length) / (Number(line.dataset.beat) * beats),
      into = at.bar - now.bar + at.share;
    head.hidden = now.id !== section() || !player.playing;
    if (!head.hidden) head.style.left = `${(100 * (into % bars)) / bars}%`;
  },
});
listenAt(rail.volume);
function hearBeat(values, mark) {
  if (rail.player.playing) rail.player.stop();
  hear(`${path}/hear.wav?${new URLSearchParams({ ...here(), ...values })}`, mark);
}

// the line: click sets or takes, a drag changes the velocity; arrows move a cursor -------------------------------------
const plot = () => $("lane-plot"),
  lanes = () => JSON.parse($("lanes").textContent);
const STEPS = { "1/8": 480, "1/8 triplet": 320, "1/16": 240, "1/16 triplet": 160, "1/32": 120 };
const step = () => STEPS[field("step").value] ?? 240;
const length = () => Number(document.querySelector(".groove-line").dataset.length);
const dotAt = (drum, tick) => document.querySelector(`.groove-dot[data-drum="${drum}"][data-tick="${tick}"]`);
let cursor = { drum: "kick", tick: 0 },
  velocity = 100,
  held = null;
function placeOf(event) {
  const box = plot().getBoundingClientRect(),
    share = Math.min(0.9999, Math.max(0, (event.clientX - box.left) / box.width)),
    y = event.clientY - box.top;
  const [drum] = lanes().reduce((best, lane) => (Math.abs(lane[1] - y) < Math.abs(best[1] - y) ? lane : best));
  return { drum, tick: (Math.round((share * length()) / step()) * step()) % length() };
}
function showCursor(visible = true) {
  const mark = $("groove-cursor"),
    lane = lanes().find(([drum]) => drum === cursor.drum) ?? lanes().at(-1);
  cursor.drum = lane[0];
  mark.hidden = !visible;
  mark.style.left = `${(100 * cursor.tick) / length()}%`;
  mark.style.top = `${lane[1]}px`;
}
function setHit(drum, tick, value) {
  cursor = { drum, tick };
  return edit({ kind: "hit", drum, tick, velocity: value }).then(() => {
    if (value) hitSaid(drum, tick);
  });
}
async function hitSaid(drum, tick) {
  const response = await fetch(`${path}/hit?${new URLSearchParams({ ...here(), drum, tick })}`, {
    headers: { "HX-Request": "true" },
  });
  if (response.ok && response.status === 200 && $("hit-said"))
    $("hit-said").textContent = (await response.text()).trim();
}
document.addEventListener("pointerdown", (event) => {
  if (!event.target.closest?.("#lane-plot") || event.button) return;
  const dot = event.target.closest(".groove-dot");
  event.preventDefault();
  plot().focus({ preventScroll: true });
  if (dot) {
    held = {
      dot,
      y: event.clientY,
      from: Number(dot.dataset.velocity),
      now: Number(dot.dataset.velocity),
      moved: false,
    };
    return;
  }
  const at = placeOf(event);
  if (dotAt(at.drum, at.tick)) return setHit(at.drum, at.tick, 0);
  setHit(at.drum, at.tick, event.shiftKey ? 45 : velocity);
});
document.addEventListener("pointermove", (event) => {
  if (!held) return;
  const by = held.y - event.clientY;
  if (Math.abs(by) > 3) held.moved = true;
  held.now = Math.max(1, Math.min(127, Math.round(held.from + by * 1.3)));
  held.dot.setAttribute(
    "r",
    (Number(document.querySelector(".groove-line").dataset.largest) * (0.3 + 0.7 * (held.now / 127) ** 0.8)).toFixed(2),
  );
});
document.addEventListener("pointerup", (event) => {
  if (!held) return;
  const { drum, tick } = held.dot.dataset;
  if (held.moved) {
    velocity = held.now;
    setHit(drum, Number(tick), held.now);
  } else if (event.shiftKey) setHit(drum, Number(tick), held.from > 60 ? 45 : 100);
  else setHit(drum, Number(tick), 0);
  held = null;
});
let resting = null; // a hand that only passes over asks for nothing
document.addEventListener("pointerover", (event) => {
  const dot = event.target.closest?.(".groove-dot");
  clearTimeout(resting);
  if (dot && !held) resting = setTimeout(() => hitSaid(dot.dataset.drum, dot.dataset.tick), 150);
});
function lineKey(event) {
  const order = lanes().map(([drum]) => drum),
    at = order.indexOf(cursor.drum),
    size = step(),
    end = length();
  const here = dotAt(cursor.drum, cursor.tick),
    loud = Number(here?.dataset.velocity ?? 0);
  if (event.key === "ArrowRight") cursor.tick = (cursor.tick - (cursor.tick % size) + size) % end;
  else if (event.key === "ArrowLeft") cursor.tick = (cursor.tick - (cursor.tick % size || size) + end) % end;
  else if (event.key === "ArrowUp") cursor.drum = order[Math.max(0, at - 1)];
  else if (event.key === "ArrowDown") cursor.drum = order[Math.min(order.length - 1, at + 1)];
  else if (event.key === "Home") cursor.tick = 0;
  else if (event.key === " " || event.key === "Enter") {
    setHit(cursor.drum, cursor.tick, here ? 0 : velocity);
    return true;
  } else if ((event.key === "+" || event.key === "-") && here) {
    setHit(cursor.drum, cursor.tick, Math.max(1, Math.min(127, loud + (event.key === "+" ? 12 : -12))));
    return true;
  } else return false;
  showCursor();
  if (dotAt(cursor.drum, cursor.tick)) hitSaid(cursor.drum, cursor.tick);
  else
    $("hit-said").textContent =
      `${cursor.drum}, beat ${1 + cursor.tick / Number(document.querySelector(".groove-line").dataset.beat)}: rests`;
  return true;
}
document.addEventListener("focusin", (event) => {
  if (event.target.id === "lane-plot" && !held) showCursor(event.target.matches(":focus-visible"));
});
document.addEventListener("focusout", (event) => {
  if (event.target.id === "lane-plot" && $("groove-cursor")) $("groove-cursor").hidden = true;
});

// saying it ------------------------------------------------------------------------------------------------------------
let waiting = null,
  draft = null;
document.addEventListener("input", (event) => {
  if (event.target.id === "spoken") {
    draft = { select: field("select").value, text: event.target.value };
    clearTimeout(waiting);
    waiting = setTimeout(listen, 110);
  }
  if (event.target.id === "find-groove" || event.target.dataset?.grooveFilter) find($("find-groove").value);
});
const listen = () => ask("listen", { ...here(), spoken: $("spoken").value });
// What the list is narrowed to: drums it has and lacks, energy, beats or fills or the song's own.
function wanted(row) {
  const value = (name) => document.querySelector(`[data-groove-filter="${name}"]`)?.value ?? "",
    drums = (row.dataset.drums ?? "").split(", "),
    energy = Number(row.dataset.energy ?? 3),
    role = value("role");
  if (!row.dataset.role) return true;
  if ((value("has") && !drums.includes(value("has"))) || drums.includes(value("lacks"))) return false;
  if (energy < Number(value("from")) || energy > Number(value("to"))) return false;
  return !role || (role === "beat" ? row.dataset.role !== "ends" : row.dataset.role === role);
}
function find(text) {
  const bar = document.querySelector(".groove-line").dataset.bar;
  for (const row of document.querySelectorAll("[data-find]")) {
    const rank = fit(text, row.querySelector("b, .groove-name")?.textContent ?? "", row.dataset.find);
    row.hidden = row.dataset.bar !== bar || !rank || !wanted(row);
    row.style.order = text.trim() ? String(-rank) : "";
  }
}
let sent = null;
function setSpoken(anew) {
  sent = { base: field("base").value, text: $("spoken").value };
  return edit({ kind: "say", spoken: $("spoken").value, ...(anew ? { anew: 1 } : {}) });
}

// tapping it -----------------------------------------------------------------------------------------------------------
let taps = [],
  one = null,
  tapsAsked = 0;
function tap(pad, at) {
  if (taps.length && at - taps.at(-1)[0] > 3) {
    taps = [];
    one = null;
  }
  taps.push([at, pad]);
  const button = document.querySelector(`[data-pad=${pad}]`);
  button.classList.add("struck");
  setTimeout(() => button.classList.remove("struck"), 90);
  readTaps();
}
const tapValues = () => ({
  taps: taps.map(([t, pad]) => `${(t - taps[0][0]).toFixed(4)}:${pad}`).join(","),
  ...(one === null ? {} : { one: (one - taps[0][0]).toFixed(4) }),
});
const asked = () =>
  Object.fromEntries(
    [...document.querySelectorAll("[data-tap-filter]")].map((list) => [list.dataset.tapFilter, list.value]),
  );
async function readTaps() {
  if (taps.length < 3) return;
  const mine = ++tapsAsked,
    response = await fetch(`${path}/tapped?${new URLSearchParams({ ...here(), ...tapValues(), ...asked() })}`, {
      headers: { "HX-Request": "true" },
    });
  if (mine === tapsAsked && $("tapped")) $("tapped").innerHTML = await response.text();
}
function tapAgain() {
  taps = [];
  one = null;
  $("tapped").replaceChildren();
}

// clicks ---------------------------------------------------------------------------------------------------------------
const page = songPage({ song, place: "groove", post, rail, here, select: () => field("select").value });
document.addEventListener("pointerdown", (event) => {
  const pad = event.target.closest?.("[data-pad]");
  if (pad && !event.button) {
    event.preventDefault();
    tap(pad.dataset.pad, event.timeStamp / 1000);
  }
});
function bring(form) {
  if (!fieldsOf(form).file?.size) {
    say("No file was chosen. Choose a MIDI file with a drum track.");
    return;
  }
  return post("bring", here(), form);
}
function offer(button) {
  $("spoken").value = $("spoken").value.replace(button.dataset.for, button.dataset.offer);
  $("spoken").focus();
  draft = { select: field("select").value, text: $("spoken").value };
  return listen();
}
function markOne(event) {
  one = event.timeStamp / 1000;
  return readTaps();
}
function ownKey(event, pass) {
  const key = event.key.toLowerCase();
  if (pass === "control") return false;
  if (event.target.id === "lane-plot" && lineKey(event)) return true;
  if ((key !== "f" && key !== "j") || event.repeat) return false;
  tap(key === "f" ? "l" : "h", event.timeStamp / 1000);
  return true;
}

// after every answer -----------------------------------------------------------------------------------------------------
let back = null;
document.addEventListener("htmx:oobBeforeSwap", (event) => {
  if (event.detail.target?.id !== "score") return;
  if (sent && field("base").value !== sent.base && (draft?.text ?? sent.text) === sent.text) {
    draft = null;
    sent = null;
  }
  back = { focused: document.activeElement?.id, caret: $("spoken").selectionStart };
});
document.addEventListener("htmx:oobAfterSwap", (event) => {
  if (event.detail.target?.id !== "score" || !back) return;
  if (draft && draft.select === field("select").value) {
    $("spoken").value = draft.text;
    setTimeout(listen);
  }
  if (back.focused === "spoken") {
    $("spoken").focus({ preventScroll: true });
    $("spoken").setSelectionRange(back.caret, back.caret);
  }
  if (back.focused === "lane-plot") {
    plot().focus({ preventScroll: true });
    showCursor();
  }
  back = null;
});
page.listen({
  edit,
  choose: (text) => {
    draft = null;
    return show({ select: text });
  },
  clicks: {
    "[data-lane]": (lane) => show({ shown: lane.dataset.lane }),
    "[data-hear-key]": (button) => hearBeat({ key: button.dataset.hearKey }, button),
    "[data-hear-beat]": (button) => hearBeat($("spoken").value ? { spoken: $("spoken").value } : {}, button),
    "[data-hear-taps]": (button) => hearBeat(tapValues(), button),
    "[data-take-taps]": (button) =>
      edit({ kind: "tap", ...tapValues(), ...(button.dataset.asPlayed ? { as_played: 1 } : {}) }),
    "[data-say-anew]": () => setSpoken(true),
    "[data-one]": (_, event) => markOne(event),
    "[data-tap-again]": tapAgain,
    "[data-offer]": offer,
  },
  forms: { "#bring": bring, "[data-say]": () => setSpoken(false) },
  changes: {
    "[data-tap-filter]": readTaps,
    "#steps": (list) => show({ step: list.value }),
    "#add-lane": (list) => show({ shown: list.value }),
    "#one-drum": (list) => show({ shown: list.value }),
    "#groove-bars": (list) => edit({ kind: "stretch_groove", groove_id: list.dataset.groove, bars: list.value }),
  },
  early: ownKey,
  keys: { o: markOne, s: () => $("spoken").focus() },
  fields: ["spoken"],
  step: (by) =>
    stepAlong(field("select").value, by, (text) => {
      draft = null;
      return show({ select: text });
    }),
  settled: () => find($("find-groove").value),
});
find("");
