// The harmony page: a line of chords written, played, clicked or picked; heard at once; edits one at a time.
import { fieldsOf } from "./dom.js";
import { handrail } from "./handrail.js";
import { hear, listenAt, quiet } from "./hearing.js";
import { fetchNote, forget, strikeNote } from "./notes.js";
import { pageQueue } from "./queue.js";
import { say } from "./shell.js";
import { songPage, stepAlong } from "./songpage.js";

const root = document.querySelector("[data-song]"),
  song = root.dataset.song,
  path = `/songs/${song}/harmony`,
  $ = (id) => document.getElementById(id);
const { post, ask } = pageQueue(root, path);
const field = (name) => document.querySelector(`#state [name=${name}]`);
const here = () => Object.fromEntries(["select", "hear", "held"].map((name) => [name, field(name).value]));
const section = () => {
  const [what, id] = field("select").value.split(":");
  return what === "song" ? 0 : Number(id);
};
const edit = (values) => post("edits", { ...here(), ...values });
function show(change) {
  for (const [name, value] of Object.entries(change)) field(name).value = value;
  return ask("show", here());
}

// listening --------------------------------------------------------------------------------------------------------
const rail = handrail({
  chosen: section,
  before: quiet,
  onPlace: (at, player) => {
    const head = $("strip-head"),
      now = player.manifest.sections[at.index];
    if (!head) return;
    head.hidden = !now || now.id !== section();
    if (!head.hidden) head.style.left = `${(100 * (at.bar - now.bar + at.share)) / Math.max(1, now.bars.length - 1)}%`;
  },
});
const volume = () => rail.volume();
function hearLine(line, mark) {
  if (!line.trim()) {
    say("There are no chords to hear yet. Write one.");
    return;
  }
  if (rail.player.playing) rail.player.stop();
  hear(
    `${path}/hear.wav?${new URLSearchParams({ line, section: String(section() || ""), hear: field("hear").value })}`,
    mark,
  );
}

// the line: words are chords; the one at the caret is the one that chords lead on from -------------------------------
const line = () => $("line");
const CHORD = /[^\s|]+(?:\s+of\s+[^\s|]+)*/g;
const words = (text) =>
  [...text.matchAll(CHORD)].map((m) => ({ text: m[0], from: m.index, to: m.index + m[0].length }));
function wordAt(text, caret) {
  let found = -1;
  words(text).forEach((w, i) => {
    if (w.from <= caret) found = i;
  });
  return found;
}
let waiting = null;
const draft = { select: "", text: null }; // what is written and not yet set
const write = () => {
  draft.select = field("select").value;
  draft.text = line().value;
};
const written = () => {
  draft.text = null;
};
function readSoon() {
  clearTimeout(waiting);
  waiting = setTimeout(readNow, 110);
}
function readNow() {
  const text = line().value,
    word = wordAt(text, line().selectionStart ?? text.length);
  return ask("read", { ...here(), line: text, word });
}
// A chord put in after the one at the caret: as the next bar, or into the same bar.
function take(name, same) {
  const input = line();
  if (!input.value.trim() && input.placeholder.startsWith("the song’s: "))
    input.value = input.placeholder.slice("the song’s: ".length);
  const text = input.value,
    caret = document.activeElement === input || draft.text !== null ? input.selectionStart : text.length;
  const all = words(text),
    at = wordAt(text, caret),
    bars = text.includes("|");
  let made, end;
  if (!all.length) {
    made = name;
    end = name.length;
  } else {
    const to = all[Math.max(0, at)].to,
      glue = same ? " " : bars ? " | " : " ";
    if (same && !bars && all.length > 1) {
      // bars that were only spaces become bar lines
      const row = all.map((w) => w.text);
      row[at] += ` ${name}`;
      made = row.join(" | ");
      end = made.length;
    } else {
      made = text.slice(0, to) + glue + name + text.slice(to);
      end = to + glue.length + name.length;
    }
  }
  input.value = made;
  input.focus();
  input.setSelectionRange(end, end);
  hearLine(name);
  write();
  readNow();
}
document.addEventListener("input", (event) => {
  if (event.target.id === "line") {
    write();
    readSoon();
  }
});
let caretAt = -1;
document.addEventListener("selectionchange", () => {
  if (document.activeElement?.id !== "line" || line().selectionStart === caretAt) return;
  caretAt = line().selectionStart;
  readSoon();
});

// clicks -------------------------------------------------------------------------------------------------------------
const page = songPage({ song, place: "harmony", post, rail, here, select: () => field("select").value });
function offer(button) {
  const index = Number(button.closest("[data-index]").dataset.index),
    w = words(line().value)[index];
  line().value = line().value.slice(0, w.from) + button.dataset.offer + line().value.slice(w.to);
  line().focus();
  write();
  readNow();
}
function hold(note) {
  const notes = field("held")
    .value.split(/[\s,]+/)
    .filter(Boolean);
  return show({
    held: (notes.includes(note) ? notes.filter((n) => n !== note) : [...notes, note].slice(-4)).join(" "),
  });
}
function plan() {
  const values = fieldsOf($("key-change"));
  return htmx.ajax("GET", `${path}/plan`, { target: "#plan", swap: "innerHTML", values });
}
// What was typed stays as a draft until an answer took it: a refused line is corrected, not written again.
let sent = null;
function setLine(form) {
  sent = { base: field("base").value, text: line().value };
  return edit({ kind: form.dataset.edit, ...fieldsOf(form) });
}
// keys: the circle has one stop, arrows go round it --------------------------------------------------------------------
function circleKey(event, wedge) {
  const all = [...document.querySelectorAll(".wedge")],
    at = all.indexOf(wedge),
    ring = at < 12 ? 0 : 12;
  const go = {
    ArrowRight: ring + ((at - ring + 1) % 12),
    ArrowLeft: ring + ((at - ring + 11) % 12),
    ArrowUp: at % 12,
    ArrowDown: 12 + (at % 12),
  }[event.key];
  if (go !== undefined) {
    wedge.setAttribute("tabindex", "-1");
    all[go].setAttribute("tabindex", "0");
    all[go].focus();
    return true;
  }
  if (event.key === "Enter" || event.key === " ") {
    take(wedge.dataset.takeChord, event.shiftKey);
    return true;
  }
  return false;
}
function ownKey(event, pass) {
  if (pass === "control") return false;
  const wedge = event.target.closest?.(".wedge");
  return (wedge && circleKey(event, wedge)) || (document.body.dataset.letters && letterDown(event));
}
document.addEventListener("keydown", (event) => {
  if (event.target.id !== "line" || event.key !== "Enter" || !(event.ctrlKey || event.metaKey)) return;
  event.preventDefault();
  hearLine(line().value);
});

// letters play: a row is an octave, a letter a step of the key, Shift a semitone up -----------------------------------
const ROWS = ["QWERTYU", "ASDFGHJ", "ZXCVBNM"],
  LOWEST = { Z: 48, A: 60, Q: 72 };
const down = new Map(),
  pinned = new Set();
let naming = null;
function rungs() {
  return JSON.parse($("ladder-keys").dataset.rungs ?? "[]");
}
function ladder() {
  const box = $("ladder-keys"),
    data = $("key-rungs")?.textContent;
  if (!box || !data || box.dataset.rungs === data) return;
  box.dataset.rungs = data;
  const degrees = rungs();
  box.replaceChildren(
    ...ROWS.flatMap((row) =>
      [...row].map((letter, i) => {
        const button = document.createElement("button"),
          pitch = LOWEST[row[0]] + degrees[i].step;
        button.type = "button";
        button.className = `rung-key${i === 0 ? " home" : ""}`;
        button.dataset.note = pitch;
        button.dataset.letter = letter;
        button.innerHTML = `<b></b> <small></small>`;
        button.firstChild.textContent = degrees[i].name;
        button.lastChild.textContent = letter;
        button.title = `letter ${letter}`;
        button.setAttribute("aria-pressed", "false");
        return button;
      }),
    ),
  );
}
function letters(on) {
  if (on) document.body.dataset.letters = "1";
  else {
    delete document.body.dataset.letters;
    lift();
  }
  $("keys-on").setAttribute("aria-pressed", String(on));
  $("keys-on").textContent = on ? "Letters play (Esc ends)" : "Letters play";
  if (on) for (const button of document.querySelectorAll("[data-note]")) sound(Number(button.dataset.note));
}
function letterDown(event) {
  if (event.key === "Escape") {
    letters(false);
    return true;
  }
  if (event.key === "Enter") {
    const first = document.querySelector("#named [data-first]");
    if (first) {
      take(first.dataset.takeChord, event.shiftKey);
      line().blur();
    }
    return true;
  }
  if (event.key === "Backspace") {
    lift();
    return true;
  }
  const button = document.querySelector(`[data-letter="${event.key.toUpperCase()}"]`);
  if (!button || event.key.length > 1) return false;
  if (event.repeat) return true;
  if (!down.size && !event.repeat) lift();
  const pitch = Number(button.dataset.note) + (event.shiftKey ? 1 : 0);
  down.set(event.code, pitch);
  pinned.add(pitch);
  strike(pitch);
  return true;
}
document.addEventListener("keyup", (event) => {
  down.delete(event.code);
});
window.addEventListener("blur", () => down.clear());
function clickNote(button) {
  const pitch = Number(button.dataset.note);
  if (pinned.has(pitch)) pinned.delete(pitch);
  else {
    pinned.add(pitch);
    strike(pitch);
  }
  nameSoon();
}
function lift() {
  pinned.clear();
  nameSoon();
}
const sound = (pitch) => fetchNote(song, pitch, field("hear").value);
function strike(pitch) {
  nameSoon();
  strikeNote(song, pitch, field("hear").value, volume());
}
function nameSoon() {
  for (const button of document.querySelectorAll("[data-note]")) {
    const p = Number(button.dataset.note);
    button.setAttribute("aria-pressed", String(pinned.has(p)));
    button.classList.toggle("raised", pinned.has(p + 1) && !document.querySelector(`[data-note="${p + 1}"]`));
  }
  clearTimeout(naming);
  naming = setTimeout(
    () =>
      htmx.ajax("GET", `${path}/named`, {
        target: "#named",
        swap: "innerHTML",
        values: { ...here(), pitches: [...pinned].join(",") },
      }),
    60,
  );
}

// after every answer ------------------------------------------------------------------------------------------------
let kept = null;
const shown = () => field("select").value;
document.addEventListener("htmx:oobBeforeSwap", (event) => {
  if (event.detail.target?.id !== "score") return;
  if (sent && field("base").value !== sent.base && (draft.text ?? sent.text) === sent.text) {
    written();
    sent = null;
  }
  const input = line(),
    scroller = document.querySelector(".strip-scroll");
  kept = {
    select: draft.select,
    text: draft.text,
    focused: document.activeElement === input,
    at: input.selectionStart,
    scroll: scroller?.scrollLeft ?? 0,
  };
});
document.addEventListener("htmx:oobAfterSwap", (event) => {
  if (event.detail.target?.id !== "score" || !kept) return;
  const input = line(),
    same = kept.select === shown();
  if (same && kept.text !== null) {
    input.value = kept.text;
    setTimeout(readNow);
  } // what is being written outlives other answers
  if (kept.focused) {
    input.focus({ preventScroll: true });
    input.setSelectionRange(kept.at, kept.at);
  }
  if (same && document.querySelector(".strip-scroll")) document.querySelector(".strip-scroll").scrollLeft = kept.scroll;
  kept = null;
});
const hearAs = (field) => {
  forget();
  return show({ hear: field.value });
};
page.listen({
  edit,
  choose: (text) => {
    written();
    return show({ select: text });
  },
  clicks: {
    "[data-take-chord]": (chord, event) => take(chord.dataset.takeChord, event.shiftKey || chord.dataset.same === "1"),
    "[data-hear-line]": (mark) =>
      hearLine(mark.dataset.hearLine || line().value || line().placeholder.replace("the song’s: ", ""), mark),
    "[data-offer]": offer,
    "form[data-held] [data-hold]": (button) => hold(button.dataset.hold),
    "[data-plan]": plan,
    "#keys-on": () => letters(!document.body.dataset.letters),
    "[data-note]": clickNote,
  },
  forms: {
    "[data-held]": (form) => show({ held: fieldsOf(form).held.trim() }),
    "[data-line]": setLine,
  },
  changes: { "#hear-with": hearAs, "#voiced-layer": hearAs },
  early: ownKey,
  keys: { e: () => line().focus(), k: () => letters(true) },
  fields: ["line"],
  step: (by) =>
    stepAlong(field("select").value, by, (text) => {
      written();
      return show({ select: text });
    }),
  settled: ladder,
});
listenAt(volume);
ladder();
