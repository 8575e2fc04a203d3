// The page of joins: devices moved by hand and keys, the passage heard round and round while it changes.
import { fieldsOf } from "./dom.js";
import { handrail } from "./handrail.js";
import { quiet } from "./hearing.js";
import { pageQueue } from "./queue.js";
import { say } from "./shell.js";
import { songPage, stepAlong } from "./songpage.js";

const root = document.querySelector("[data-song]"),
  song = root.dataset.song,
  path = `/songs/${song}/joins`,
  $ = (id) => document.getElementById(id);
const { post, ask } = pageQueue(root, path);
const field = (name) => document.querySelector(`#state [name=${name}]`);
const here = () => Object.fromEntries(["select", "device", "shown"].map((name) => [name, field(name).value]));
const section = () => Number(field("select").value.split(":")[1]);
const edit = (values) => post("edits", { ...here(), ...values });
const show = (change) => {
  for (const [name, value] of Object.entries(change)) field(name).value = value;
  return ask("show", here());
};

// listening: the bars about the one go round; what was changed is taken up where they begin again ----------------------------
const rail = handrail({
  chosen: section,
  before: () => {
    quiet();
    stop();
  },
});
let looping = null; // { without, gain, context, pieces, next }
async function sound(without) {
  const { base, select, shown } = fieldsOf($("state")),
    values = { before: shown, ...(without === "" ? {} : { without }) };
  const response = await fetch(`${path}/${base}/${select.split(":")[1]}.wav?${new URLSearchParams(values)}`);
  if (!response.ok) throw new Error("passage");
  const key = response.headers.get("X-Key"),
    lead = Number(response.headers.get("X-Lead-S"));
  return { key, lead, audio: await looping.context.decodeAudioData(await response.arrayBuffer()) };
}
async function loop(without) {
  const same = looping && looping.without === without;
  stop();
  if (same || !section()) return;
  if (rail.player.playing) rail.player.stop();
  const context = rail.player.context(),
    gain = context.createGain();
  looping = { without, context, gain, at: 0, piece: null, source: null, place: "" };
  const mine = looping;
  buttons();
  try {
    await context.resume();
    mine.piece = await sound(without);
  } catch {
    if (looping === mine) stop();
    return say("The join could not be made to sound. Load the page again.");
  }
  if (looping !== mine) return;
  gain.connect(context.destination);
  mine.at = context.currentTime + 0.06;
  mine.place = field("select").value;
  gain.gain.setValueAtTime(0, mine.at);
  gain.gain.linearRampToValueAtTime(10 ** (rail.volume() / 20), mine.at + 0.3);
  begin(mine, mine.at);
  requestAnimationFrame(() => follow(mine));
}
function begin(mine, at) {
  const source = mine.context.createBufferSource();
  source.buffer = mine.piece.audio;
  source.loop = true;
  source.connect(mine.gain);
  source.start(at);
  mine.source = source;
  mine.at = at;
}
// After an edit: the newer sound begins where the present round ends, so that nothing is cut and nothing waits.
async function takeUp() {
  const mine = looping;
  if (!mine?.piece) return;
  if (field("select").value !== mine.place) return stop();
  let piece;
  try {
    piece = await sound(mine.without);
  } catch {
    return;
  }
  if (looping !== mine || piece.key === mine.piece.key) return;
  const length = mine.piece.audio.duration,
    now = mine.context.currentTime + 0.03,
    end = mine.at + Math.ceil((now - mine.at) / length) * length;
  mine.source.stop(end);
  mine.piece = piece;
  begin(mine, end);
}
function stop() {
  if (!looping) return;
  const { source, gain, context } = looping;
  looping = null;
  gain.gain.cancelScheduledValues(context.currentTime);
  gain.gain.setTargetAtTime(0, context.currentTime, 0.02);
  source?.stop(context.currentTime + 0.15);
  $("join-head")?.setAttribute("visibility", "hidden");
  buttons();
}
function buttons() {
  for (const button of document.querySelectorAll("[data-loop-join]")) {
    const on = looping !== null && looping.without === button.dataset.loopJoin;
    button.setAttribute("aria-pressed", String(on));
    if (button.id === "loop-join") button.textContent = on ? "Looping this join" : "Loop this join";
  }
}
function follow(mine) {
  if (looping !== mine) return;
  const head = $("join-head"),
    plot = $("join-plot");
  if (head && plot && mine.piece) {
    const length = mine.piece.audio.duration,
      now = (((mine.context.currentTime - mine.at) % length) + length) % length,
      one = Number(document.querySelector(".the-one").getAttribute("x1")),
      before = one - 14,
      after = 866 - one,
      x =
        now < mine.piece.lead
          ? 14 + (before * now) / mine.piece.lead
          : one + (after * (now - mine.piece.lead)) / (length - mine.piece.lead);
    head.setAttribute("visibility", "visible");
    for (const end of ["x1", "x2"]) head.setAttribute(end, String(x));
  }
  requestAnimationFrame(() => follow(mine));
}
window.escalera = Object.assign(window.escalera ?? {}, { join: () => looping?.piece?.key ?? "" });

// devices: dragged, nudged by keys --------------------------------------------------------------------------------------------
const SIXTEENTH = 240;
let drag = null;
const beat = () => Number($("join-plot").dataset.beat);
function nudge(device, by_ticks, edge = "whole") {
  if (by_ticks) edit({ kind: "nudge_device", section_id: section(), device_id: device, by_ticks, edge, device });
}
document.addEventListener("pointerdown", (event) => {
  const group = event.target.closest?.("g.device.placed");
  if (!group || event.button) return;
  event.preventDefault();
  group.focus({ preventScroll: true });
  drag = { group, x: event.clientX, edge: event.target.dataset.edge ?? "whole", by: 0 };
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const plot = $("join-plot"),
    pixels = (880 / plot.getBoundingClientRect().width) * (event.clientX - drag.x),
    step = event.ctrlKey ? 1 : SIXTEENTH;
  drag.by = Math.round(pixels / Number(plot.dataset.scale) / step) * step;
  const moved = drag.by * Number(plot.dataset.scale);
  if (drag.edge === "whole") drag.group.setAttribute("transform", `translate(${moved} 0)`);
  else drag.group.querySelector(`[data-edge=${drag.edge}]`).setAttribute("transform", `translate(${moved} 0)`);
});
document.addEventListener("pointerup", () => {
  if (!drag) return;
  const { group, by, edge } = drag;
  drag = null;
  if (by) nudge(group.dataset.device, by, edge);
  else show({ device: group.dataset.device });
});
// The focus goes to the device beside the one that is taken away, or to what adds one.
function remove(device) {
  const all = [...document.querySelectorAll("g.device.placed")].map((group) => group.id),
    at = all.indexOf(`device-${device}`),
    next = all[at + 1] ?? all[at - 1];
  edit({ kind: "remove_device", section_id: section(), device_id: device }).then(() =>
    /** @type {HTMLElement | null} */ ($(next) ?? document.querySelector("#add-device .chip"))?.focus({
      preventScroll: true,
    }),
  );
}
function deviceKey(event) {
  const device = document.activeElement?.dataset?.device ?? field("device").value;
  if (!device || !event.target.closest?.("g.device, [data-device]")) return false;
  const step = event.ctrlKey || event.metaKey ? 1 : event.shiftKey ? beat() : SIXTEENTH;
  if (event.key === "ArrowLeft") nudge(device, -step);
  else if (event.key === "ArrowRight") nudge(device, step);
  else if (event.key === "[" || event.key === "{") nudge(device, event.key === "{" ? -beat() : -SIXTEENTH, "end");
  else if (event.key === "]" || event.key === "}") nudge(device, event.key === "}" ? beat() : SIXTEENTH, "end");
  else if (event.key === "Delete" || event.key === "Backspace") remove(device);
  else if (event.key === "Enter" || event.key === " ") show({ device });
  else return false;
  return true;
}
function own(event, pass) {
  const arrows = event.key === "ArrowLeft" || event.key === "ArrowRight";
  if (pass === "control" && !arrows) return false;
  if (
    pass === "plain" &&
    event.key === " " &&
    looping &&
    !event.target.closest?.("button, a, summary, input, g.device")
  ) {
    stop();
    return true;
  }
  if (!deviceKey(event)) return false;
  event.preventDefault();
  return true;
}
function buildFields(form) {
  const layers = (name) =>
    JSON.stringify([...form.querySelectorAll(`[data-layers=${name}]:checked`)].map((box) => Number(box.value)));
  return { kind: "set_build", ...fieldsOf(form), keeps: layers("keeps"), shows: layers("shows") };
}

// clicks and keys -----------------------------------------------------------------------------------------------------------
const page = songPage({ song, place: "joins", post, rail, here, select: () => field("select").value });
page.listen({
  edit,
  choose: (text) => show({ select: text, device: "" }),
  clicks: {
    "button[data-device]": (button) => show({ device: button.dataset.device }),
    "[data-loop-join]": (button) => loop(button.dataset.loopJoin),
  },
  forms: { "[data-build]": (form) => edit(buildFields(form)) },
  changes: { "#shown-bars": (list) => show({ shown: list.value }) },
  early: own,
  keys: { l: () => loop(""), x: () => loop("0"), a: () => document.querySelector("#add-device .chip")?.focus() },
  step: (by) => stepAlong(field("select").value, by, (text) => show({ select: text, device: "" })),
  settled: () => {
    buttons();
    takeUp();
    inView();
  },
});
// On a narrow page the chosen join and its one are brought into view.
function inView() {
  const map = document.querySelector(".landings"),
    card = /** @type {HTMLElement | null} */ (document.querySelector(".landing-card.chosen")),
    box = document.querySelector(".join-scroll"),
    one = document.querySelector(".the-one");
  if (map && card) map.scrollLeft = card.offsetLeft - map.clientWidth / 2;
  if (box && one) box.scrollLeft = (Number(one.getAttribute("x1")) / 880) * box.scrollWidth - box.clientWidth * 0.7;
}
inView();
