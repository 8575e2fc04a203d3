// Shaping a sound: tabs of the inspector, where a change counts, steps of a gate, curves by hand and keys, the sound picker.
import { grid, HEIGHT as H, neat, shareOf, text, valueAt, WIDTH as W, xOf, yOf } from "./curvemath.js";
import { all, fieldsOf } from "./dom.js";
import { hear } from "./hearing.js";
import { say } from "./shell.js";

let scope = "all",
  scopeFor = "";
/** @type {{ edit: (values: object) => unknown, song: number | string }} */
let act = { edit: () => {}, song: 0 };
export function shape(actions) {
  act = actions;
  restore();
}

// where a change counts is remembered over answers ---------------------------------------------------------------
export function restore() {
  const box = document.querySelector("#inspector [data-scope-for]");
  if (box && box.dataset.scopeFor !== scopeFor) {
    scopeFor = box.dataset.scopeFor;
    scope = "all";
  }
  for (const button of all("#inspector [data-scope]"))
    button.setAttribute("aria-pressed", String(button.dataset.scope === scope));
  document.querySelector("#inspector")?.classList.toggle("only-here", Boolean(box) && scope === "here");
}
// What a form of the inspector asks for: everywhere, or in one section only.
export function formEdit(form) {
  /** @type {Record<string, any>} */
  const values = { kind: form.dataset.edit, ...fieldsOf(form) };
  if (form.dataset.newCurve !== undefined) return { ...values, points: "" };
  if (values.kind === "set_value" && scope === "here" && values.lane.startsWith("layer.")) {
    const [section_id, layer_id] = scopeFor.split(":");
    return { kind: "treat", section_id, layer_id, lane: form.dataset.path, value: values.value };
  }
  return values;
}

document.addEventListener("click", (event) => {
  const hit = (query) => event.target.closest?.(query);
  const button = hit("[data-scope], [data-untreat], [data-alone], [data-copy]");
  if (!button) return;
  const d = button.dataset;
  if (d.scope) {
    scope = d.scope;
    restore();
  } else if (d.untreat) {
    const [section_id, layer_id] = scopeFor.split(":");
    act.edit({ kind: "untreat", section_id, layer_id, lane: d.untreat });
  } else if (d.alone) hear(d.alone, button);
  else if (d.copy !== undefined) {
    const box = button.closest("[data-curve]"),
      curve = read(box);
    act.edit({
      kind: "copy_curve",
      section_id: box.dataset.section,
      lane: curve.lane,
      to_id: box.querySelector("[data-copy-to]").value,
    });
  }
});
export function hearAlone() {
  const button = document.querySelector("#inspector [data-alone]");
  if (button) hear(button.dataset.alone, button);
}

// steps of a gate -----------------------------------------------------------------------------------------------------
document.addEventListener("change", (event) => {
  const form = event.target.closest?.("form[data-steps]");
  if (form) {
    const value = all("input[type=checkbox]", form).reduce((sum, box, i) => sum + (box.checked ? 2 ** i : 0), 0);
    if (!value) {
      event.target.checked = true;
      say("A gate needs one open step. Switch the effect off instead.");
      return;
    }
    form.querySelector("[name=value]").value = String(value);
    form.requestSubmit();
  }
  const box = event.target.closest?.("[data-curve]");
  if (!box) return;
  const curve = read(box);
  if (event.target.dataset.shape !== undefined) {
    curve.points[/** @type {any} */ (box).at ?? 0][2] = event.target.value;
    send(box, curve);
  }
  if (event.target.dataset.rate !== undefined) {
    curve.rate = Number(event.target.value);
    send(box, curve);
  }
});

// curves ----------------------------------------------------------------------------------------------------------------
const read = (box) => (box.curve ??= JSON.parse(box.dataset.curve));
function pointAt(svg, c, event) {
  const box = svg.getBoundingClientRect();
  const x = ((event.clientX - box.left) * W) / box.width,
    y = ((event.clientY - box.top) * H) / box.height;
  return { tick: ((x - 6) * c.length) / (W - 12), value: valueAt(c, (H - 8 - y) / (H - 16)) };
}
function draw(box) {
  const c = read(box);
  all("circle", box).forEach((peg, i) => {
    if (!c.points[i]) return;
    peg.setAttribute("cx", String(xOf(c, c.points[i][0])));
    peg.setAttribute("cy", String(yOf(c, c.points[i][1])));
  });
  box
    .querySelector("polyline")
    .setAttribute(
      "points",
      [[0, c.points[0][1]], ...c.points, [c.length, c.points.at(-1)[1]]]
        .map((p) => `${xOf(c, p[0])},${yOf(c, p[1])}`)
        .join(" "),
    );
}
function mark(box, i) {
  const c = read(box);
  box.at = i;
  all("circle", box).forEach((peg, k) => {
    peg.classList.toggle("chosen", k === i);
  });
  const p = c.points[i];
  box.querySelector("[data-shape]").value = p[2];
  box.querySelector("[data-said]").textContent =
    `point ${i + 1}: ${text(c, p[1])}, beat ${Number((1 + p[0] / c.beat).toPrecision(4))}`;
}
let resting = null,
  back = null;
function send(box, c, focus) {
  back = focus === undefined ? null : { lane: c.lane, i: focus, box };
  act.edit({
    kind: "set_curve",
    section_id: box.dataset.section,
    lane: c.lane,
    points: JSON.stringify(c.points),
    rate_beats: c.rate,
  });
}
export function refocus() {
  if (!back) return;
  const fresh = all("[data-curve]").filter((box) => box !== back.box && read(box).lane === back.lane);
  if (!fresh.length) return; // parts of an answer settle one by one; the inspector's is still to come
  for (const box of fresh) {
    const peg = all("circle", box)[back.i];
    if (peg) {
      peg.focus({ preventScroll: true });
      mark(box, back.i);
    }
  }
  back = null;
}
let held = null;
document.addEventListener("pointerdown", (event) => {
  const svg = event.target.closest?.(".curve-plot");
  if (!svg || event.button) return;
  const box = svg.closest("[data-curve]"),
    c = read(box),
    peg = event.target.dataset?.peg;
  event.preventDefault();
  if (peg !== undefined) {
    held = { svg, box, i: Number(peg), moved: false };
    event.target.focus({ preventScroll: true });
    mark(box, held.i);
    return;
  }
  const { tick, value } = pointAt(svg, c, event),
    at = grid(c, tick, event.shiftKey);
  c.points = c.points.filter((p) => p[0] !== at);
  const before = c.points.filter((p) => p[0] < at).at(-1);
  c.points.push([at, neat(c, value), before?.[2] ?? "line"]);
  c.points.sort((a, b) => a[0] - b[0]);
  send(
    box,
    c,
    c.points.findIndex((p) => p[0] === at),
  );
});
document.addEventListener("pointermove", (event) => {
  if (!held) return;
  const c = read(held.box),
    { tick, value } = pointAt(held.svg, c, event),
    p = c.points[held.i];
  const low = held.i ? c.points[held.i - 1][0] + 1 : 0,
    high = held.i + 1 < c.points.length ? c.points[held.i + 1][0] - 1 : c.length;
  p[0] = Math.round(Math.max(low, Math.min(high, grid(c, tick, event.shiftKey))));
  p[1] = neat(c, value);
  held.moved = true;
  draw(held.box);
  mark(held.box, held.i);
});
document.addEventListener("pointerup", () => {
  if (held?.moved) send(held.box, read(held.box), held.i);
  held = null;
});
document.addEventListener("focusin", (event) => {
  const peg = event.target.closest?.("[data-peg]");
  if (peg) mark(peg.closest("[data-curve]"), Number(peg.dataset.peg));
});
document.addEventListener(
  "keydown",
  (event) => {
    const peg = event.target.closest?.("[data-peg]");
    if (!peg || event.ctrlKey || event.metaKey || event.altKey) return;
    const box = peg.closest("[data-curve]"),
      c = read(box),
      i = Number(peg.dataset.peg),
      p = c.points[i],
      big = event.shiftKey ? 0.1 : 0.02;
    const low = i ? c.points[i - 1][0] + 1 : 0,
      high = i + 1 < c.points.length ? c.points[i + 1][0] - 1 : c.length,
      step = event.shiftKey ? c.beat : c.beat / 4;
    if (event.key === "ArrowUp" || event.key === "ArrowDown")
      p[1] = neat(c, valueAt(c, shareOf(c, p[1]) + (event.key === "ArrowUp" ? big : -big)));
    else if (event.key === "ArrowLeft" || event.key === "ArrowRight")
      p[0] = Math.round(Math.max(low, Math.min(high, p[0] + (event.key === "ArrowRight" ? step : -step))));
    else if (event.key === "Insert" || event.key === "+") {
      const next = c.points[i + 1] ?? [c.length, p[1], "line"],
        at = Math.round((p[0] + next[0]) / 2);
      if (at > p[0] && at < next[0] + 1) {
        c.points = [
          ...c.points.slice(0, i + 1),
          [at, neat(c, valueAt(c, (shareOf(c, p[1]) + shareOf(c, next[1])) / 2)), p[2]],
          ...c.points.slice(i + 1),
        ];
        event.preventDefault();
        event.stopPropagation();
        send(box, c, i + 1);
      }
      return;
    } else if (event.key === "Delete" || event.key === "Backspace") {
      event.preventDefault();
      event.stopPropagation();
      if (c.points.length === 1) {
        say("A curve keeps one point. Choose “Stand still” to take it away.");
        return;
      }
      c.points = c.points.filter((_, k) => k !== i);
      send(box, c, Math.max(0, i - 1));
      return;
    } else return;
    event.preventDefault();
    event.stopPropagation();
    draw(box);
    mark(box, i);
    clearTimeout(resting);
    resting = setTimeout(() => send(box, c, i), 350);
  },
  true,
);
