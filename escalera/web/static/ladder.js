// The note ladder: pegs drawn, moved, stretched and struck harder by hand and keys. The hand moves a peg at once; the
// edit follows when it lets go, and the answer draws the truth.
import { strikeNote } from "./notes.js";
import { say } from "./shell.js";

const STEPS = { "1/4": 960, "1/8": 480, "1/16": 240, "1/32": 120, "1/8 triplet": 320, "1/16 triplet": 160 };
const SVG = "http://www.w3.org/2000/svg";

export function ladder({ song, edit, place, facts, field, volume, layer }) {
  const plot = () => document.getElementById("plot"),
    all = () => [...document.querySelectorAll("#plot .peg:not(.sketch)")];
  const length = () => Number(plot().dataset.length),
    step = () => STEPS[field("steps").value] ?? 240;
  const said = (text) => {
    const box = document.getElementById("note-said");
    if (box) box.textContent = text;
  };
  const noteOf = (peg) => ({
    tick: Number(peg.dataset.tick),
    pitch: Number(peg.dataset.pitch),
    ticks: Number(peg.dataset.ticks),
    velocity: Number(peg.dataset.velocity),
  });
  const pegAt = (tick, pitch) => document.querySelector(`#plot .peg[data-tick="${tick}"][data-pitch="${pitch}"]`);
  let cursor = null,
    held = null,
    velocity = 96,
    lasting = 480;
  let picked = new Set(); // "tick:pitch" of the chosen notes, kept over answers

  // geometry -----------------------------------------------------------------------------------------------------------
  const rungs = () => facts().rungs;
  const yOf = (pitch) => {
    const exact = rungs().find((r) => r[0] === pitch);
    if (exact) return exact[1];
    const above = rungs()
        .filter((r) => r[0] > pitch)
        .at(-1),
      below = rungs().find((r) => r[0] < pitch);
    return above && below ? (above[1] + below[1]) / 2 : (above ?? below)[1];
  };
  const pitchAt = (y) => rungs().reduce((best, r) => (Math.abs(r[1] - y) < Math.abs(best[1] - y) ? r : best))[0];
  const tickAt = (x, width) => Math.max(0, Math.min(0.9999, x / width)) * length();
  function at(event) {
    const box = plot().getBoundingClientRect();
    return { x: event.clientX - box.left, y: event.clientY - box.top, width: box.width };
  }
  const nameOf = (pitch) => document.querySelector(`[data-rung="${pitch}"] i`)?.textContent ?? `pitch ${pitch}`;
  const beatOf = (tick) => {
    const beat = Number(plot().dataset.beat);
    return `beat ${(1 + tick / beat).toFixed(2).replace(/\.?0+$/, "")}`;
  };
  const lengthOf = (ticks) => `${(ticks / Number(plot().dataset.beat)).toFixed(2).replace(/\.?0+$/, "")} long`;
  const tell = (n) => said(`${nameOf(n.pitch)} on ${beatOf(n.tick)}, ${lengthOf(n.ticks)}, velocity ${n.velocity}`);

  // a peg as the hand has it, before the answer
  function draw(peg, note) {
    const x = `${(100 * Math.max(0, note.tick)) / length()}%`,
      end = `${(100 * Math.min(length(), note.tick + note.ticks)) / length()}%`,
      y = yOf(note.pitch);
    const [stem, tail, head] = [".stem", ".tail", ".head"].map((q) => peg.querySelector(q));
    for (const [line, a, b, y1, y2] of [
      [stem, x, end, y, y],
      [tail, end, end, y - 4, y + 4],
    ]) {
      line.setAttribute("x1", a);
      line.setAttribute("x2", b);
      line.setAttribute("y1", y1);
      line.setAttribute("y2", y2);
    }
    head.setAttribute("cx", x);
    head.setAttribute("cy", y);
    head.setAttribute("r", (3.6 + (3.6 * note.velocity) / 127).toFixed(1));
  }
  function sketch(note) {
    const peg = document.createElementNS(SVG, "g");
    peg.setAttribute("class", "peg sketch");
    for (const [tag, name] of [
      ["line", "stem"],
      ["line", "tail"],
      ["circle", "head"],
    ]) {
      const part = document.createElementNS(SVG, tag);
      part.setAttribute("class", name);
      peg.append(part);
    }
    plot().querySelector("svg").append(peg);
    draw(peg, note);
    return peg;
  }
  const send = (changes) =>
    edit({
      kind: "change_notes",
      ...place(),
      changes: JSON.stringify(changes),
      how: field("write").value,
      here: field("reach").value === "here",
    });
  const row = (old, now) => [
    old?.tick ?? null,
    old?.pitch ?? null,
    now?.tick ?? null,
    now?.pitch ?? null,
    now?.ticks ?? null,
    now?.velocity ?? null,
  ];
  const hearIt = (pitch) => {
    const stop = strikeNote(song, pitch, layer(), volume());
    setTimeout(() => stop.then((end) => end()), 260);
  };

  // choosing -------------------------------------------------------------------------------------------------------------
  const key = (n) => `${n.tick}:${n.pitch}`;
  function mark() {
    for (const peg of all()) peg.classList.toggle("chosen", picked.has(key(noteOf(peg))));
  }
  function pick(note, more) {
    if (!more) picked = new Set();
    if (more && picked.has(key(note))) picked.delete(key(note));
    else picked.add(key(note));
    mark();
    tell(note);
  }
  const chosenNotes = () =>
    all()
      .map(noteOf)
      .filter((n) => picked.has(key(n)));
  const chosen = () => chosenNotes().map((n) => [n.tick, n.pitch]);

  // the hand ---------------------------------------------------------------------------------------------------------------
  document.addEventListener("pointerdown", (event) => {
    if (!event.target.closest?.("#plot") || event.button || !rungs().length || event.target.closest("button")) return;
    event.preventDefault();
    plot().focus({ preventScroll: true });
    hideCursor();
    const peg = event.target.closest(".peg"),
      p = at(event);
    if (peg) {
      const note = noteOf(peg),
        what = event.target.matches(".tail") || event.altKey ? "stretch" : event.shiftKey ? "strike" : "move";
      const group =
        picked.has(key(note)) && what !== "strike" ? all().filter((x) => picked.has(key(noteOf(x)))) : [peg];
      held = {
        what,
        peg,
        start: p,
        note,
        now: { ...note },
        moved: false,
        group: group.map((x) => ({ peg: x, note: noteOf(x), now: noteOf(x) })),
        more: event.shiftKey || event.ctrlKey || event.metaKey,
      };
    } else {
      const snapped = Math.floor((tickAt(p.x, p.width) + step() * 0.25) / step()) * step(),
        note = {
          tick: Math.min(snapped, length() - 1),
          pitch: pitchAt(p.y),
          ticks: Math.min(lasting, length() - snapped),
          velocity,
        };
      const there = pegAt(note.tick, note.pitch);
      if (there) {
        pick(noteOf(there), event.shiftKey);
        return;
      }
      held = { what: "draw", peg: sketch(note), start: p, note, now: { ...note }, moved: false };
      hearIt(note.pitch);
      tell(note);
    }
  });
  function moved(p) {
    const ticks = ((p.x - held.start.x) / p.width) * length(),
      steps = Math.round(ticks / step()) * step();
    if (held.what === "draw")
      return [
        {
          ...held,
          now: {
            ...held.note,
            ticks: held.moved
              ? Math.max(step(), Math.round((tickAt(p.x, p.width) - held.note.tick) / step()) * step())
              : held.note.ticks,
          },
        },
      ];
    if (held.what === "strike")
      return [
        {
          ...held,
          now: {
            ...held.note,
            velocity: Math.max(1, Math.min(127, Math.round(held.note.velocity + (held.start.y - p.y) * 1.2))),
          },
        },
      ];
    const lead = pitchAt(yOf(held.note.pitch) + p.y - held.start.y) - held.note.pitch,
      list = rungs().map((r) => r[0]);
    const rise = (pitch) => {
      if (!lead) return pitch;
      const from = list.indexOf(held.note.pitch),
        mine = list.indexOf(pitch),
        to = list.indexOf(held.note.pitch + lead);
      return mine >= 0 && from >= 0 ? list[Math.max(0, Math.min(list.length - 1, mine + to - from))] : pitch + lead;
    };
    const first = Math.min(...held.group.map((g) => g.note.tick)),
      last = Math.max(...held.group.map((g) => g.note.tick)),
      by = Math.max(-Math.max(0, first), Math.min(length() - 1 - last, steps));
    return held.group.map((g) => ({
      ...g,
      now:
        held.what === "stretch"
          ? { ...g.note, ticks: Math.max(30, g.note.ticks + steps) }
          : { ...g.note, tick: g.note.tick + by, pitch: rise(g.note.pitch) },
    }));
  }
  document.addEventListener("pointermove", (event) => {
    if (!held) return;
    const p = at(event);
    if (Math.hypot(p.x - held.start.x, p.y - held.start.y) > 3) held.moved = true;
    if (!held.moved) return;
    const before = held.now.pitch;
    for (const g of moved(p)) {
      draw(g.peg, g.now);
      if (g.peg === held.peg) held.now = g.now;
    }
    held.after = moved(p);
    tell(held.now);
    if (held.now.pitch !== before) hearIt(held.now.pitch);
  });
  document.addEventListener("pointerup", () => {
    if (!held) return;
    const done = held;
    held = null;
    if (done.what === "draw") {
      lasting = done.now.ticks;
      picked = new Set([key(done.now)]);
      return send([row(null, done.now)]);
    }
    if (!done.moved) {
      if (!done.more) hearIt(done.note.pitch);
      return pick(done.note, done.more);
    }
    const changes = (done.after ?? []).filter((g) => JSON.stringify(g.note) !== JSON.stringify(g.now));
    if (done.what === "strike") velocity = done.now.velocity;
    if (done.what === "stretch") lasting = done.now.ticks;
    if (!changes.length) return;
    if (picked.has(key(done.note)) || changes.length === 1) picked = new Set(changes.map((g) => key(g.now)));
    send(changes.map((g) => row(g.note, g.now)));
  });
  document.addEventListener("pointercancel", () => {
    held = null;
  });
  document.addEventListener("pointerover", (event) => {
    const peg = event.target.closest?.("#plot .peg:not(.sketch)");
    if (peg && !held) tell(noteOf(peg));
  });
  document.addEventListener("pointerover", (event) => {
    const stroke = event.target.closest?.(".stroke"),
      box = document.getElementById("low-said");
    if (stroke && box)
      box.textContent = `${beatOf(Number(stroke.dataset.step) % length())}: ${facts().steps[stroke.dataset.step]}`;
  });

  // keys -------------------------------------------------------------------------------------------------------------------
  function hideCursor() {
    const mark = document.getElementById("ladder-cursor");
    if (mark) mark.hidden = true;
  }
  function showCursor() {
    const list = rungs(),
      mark = document.getElementById("ladder-cursor");
    if (!list.length || !mark) return;
    cursor ??= { tick: 0, pitch: list[Math.floor(list.length / 2)][0] };
    if (!list.some((r) => r[0] === cursor.pitch)) cursor.pitch = pitchAt(yOf(cursor.pitch));
    cursor.tick = Math.min(cursor.tick, length() - 1);
    mark.hidden = false;
    mark.style.left = `${(100 * cursor.tick) / length()}%`;
    mark.style.top = `${yOf(cursor.pitch)}px`;
  }
  const targets = () => {
    const n = chosenNotes();
    if (n.length) return n;
    const peg = cursor && pegAt(cursor.tick, cursor.pitch);
    return peg ? [noteOf(peg)] : [];
  };
  function change(make) {
    const list = targets();
    if (!list.length) return false;
    const rows = list
      .map((n) => [n, make(n)])
      .filter(([n, now]) => now === null || JSON.stringify(n) !== JSON.stringify(now));
    if (!rows.length) return true;
    picked = new Set(rows.filter(([, now]) => now).map(([, now]) => key(now)));
    if (rows[0][1]) {
      velocity = rows[0][1].velocity;
      if (cursor) cursor = { tick: rows[0][1].tick, pitch: rows[0][1].pitch };
    }
    send(rows.map(([n, now]) => row(n, now)));
    return true;
  }
  const byRung = (pitch, by) => {
    const list = rungs().map((r) => r[0]),
      i = list.indexOf(pitch);
    return i < 0 ? pitch + by : list[Math.max(0, Math.min(list.length - 1, i - by))];
  };
  const within = (tick) => Math.max(0, Math.min(length() - 1, tick));
  function slide() {
    if (!facts().mono) {
      say("This sound does not slide: every note starts anew. Take a gliding bass for slides.");
      return true;
    }
    const notes = all()
      .map(noteOf)
      .sort((a, b) => a.tick - b.tick);
    return change((n) => {
      const after = notes.find((x) => x.tick > n.tick);
      return after
        ? { ...n, ticks: n.tick + n.ticks > after.tick ? after.tick - n.tick - 15 : after.tick - n.tick + 60 }
        : n;
    });
  }
  const strokes = {
    ArrowRight: (e) => (e.shiftKey ? change((n) => ({ ...n, tick: within(n.tick + step()) })) : go(step(), 0)),
    ArrowLeft: (e) => (e.shiftKey ? change((n) => ({ ...n, tick: within(n.tick - step()) })) : go(-step(), 0)),
    ArrowUp: (e) => (e.shiftKey ? change((n) => ({ ...n, pitch: byRung(n.pitch, 1) })) : go(0, 1)),
    ArrowDown: (e) => (e.shiftKey ? change((n) => ({ ...n, pitch: byRung(n.pitch, -1) })) : go(0, -1)),
    ".": () => change((n) => ({ ...n, ticks: n.ticks + step() })),
    ",": () => change((n) => ({ ...n, ticks: Math.max(30, n.ticks - step()) })),
    "+": () => change((n) => ({ ...n, velocity: Math.min(127, n.velocity + 8) })),
    "-": () => change((n) => ({ ...n, velocity: Math.max(1, n.velocity - 8) })),
    Delete: () => change(() => null),
    Backspace: () => change(() => null),
    "/": slide,
    Home: () => {
      cursor.tick = 0;
      showCursor();
      return true;
    },
    Escape: () => {
      if (!picked.size) return false;
      picked = new Set();
      mark();
      return true;
    },
    Enter: () => {
      const peg = pegAt(cursor.tick, cursor.pitch);
      if (peg) pick(noteOf(peg), true);
      return true;
    },
    " ": () => {
      const peg = pegAt(cursor.tick, cursor.pitch),
        note = { ...cursor, ticks: Math.min(lasting, length() - cursor.tick), velocity };
      picked = new Set();
      if (!peg) hearIt(cursor.pitch);
      send([peg ? row(noteOf(peg), null) : row(null, note)]);
      return true;
    },
  };
  function go(by, up) {
    if (by) cursor.tick = (Math.floor(cursor.tick / step()) * step() + by + length()) % length();
    if (up) cursor.pitch = byRung(cursor.pitch, up);
    showCursor();
    const peg = pegAt(cursor.tick, cursor.pitch);
    if (peg) tell(noteOf(peg));
    else said(`${nameOf(cursor.pitch)} on ${beatOf(cursor.tick)}: rests`);
    return true;
  }
  // True when the key was one of the ladder's.
  function onKey(event) {
    if (event.target.id !== "plot" || !rungs().length) return false;
    if (!cursor) showCursor();
    if (event.key === "*") {
      picked = new Set(all().map((p) => key(noteOf(p))));
      mark();
      return true;
    }
    return strokes[event.key]?.(event) ?? false;
  }
  document.addEventListener("focusin", (event) => {
    if (event.target.id === "plot" && event.target.matches(":focus-visible") && !held) showCursor();
  });
  document.addEventListener("focusout", (event) => {
    if (event.target.id === "plot") hideCursor();
  });
  // An answer that comes while the hand holds pegs: it goes on holding the ones that are there now.
  function refresh() {
    mark();
    if (held?.what === "draw") {
      held.peg = sketch(held.now);
      return;
    }
    for (const g of held?.group ?? []) {
      const now = pegAt(g.note.tick, g.note.pitch);
      if (g.peg === held.peg) held.peg = now ?? g.peg;
      g.peg = now ?? g.peg;
    }
  }
  return { key: onKey, chosen, sketch, showCursor, refresh };
}
