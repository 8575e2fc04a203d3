// The page of balance: who fills what, what hides what; something tried for the ear; one band, one side; two passages on one beat.
import { besidePlayer } from "./beside.js";
import { byId, fieldsOf } from "./dom.js";
import { handrail } from "./handrail.js";
import { pageQueue } from "./queue.js";
import { say } from "./shell.js";
import { songPage, stepAlong } from "./songpage.js";

const root = byId("balance"),
  song = root.dataset.song,
  path = `/songs/${song}/balance`;
const { post, ask } = pageQueue(root, path);
const FIELDS = ["select", "shown", "pair", "layer", "against"];
const EDGES = [20, 90, 250, 800, 3000, 8000, 20000];
const DIMMED = 10 ** (-12 / 20);
const field = (name) => /** @type {HTMLInputElement} */ (document.querySelector(`#state [name=${name}]`));
const here = () => Object.fromEntries(FIELDS.map((name) => [name, field(name).value]));
function show(change = {}) {
  for (const [name, value] of Object.entries(change)) field(name).value = value;
  return ask("show", here());
}
const sectionId = () => Number(field("select").value.split(":")[1]);
const rail = handrail({ chosen: sectionId, before: () => beside.stop() });
const beside = besidePlayer(
  path,
  () => rail.volume(),
  () => rail.player.playing && rail.player.stop(),
);
const page = songPage({ song, place: "balance", post, rail, here, select: () => field("select").value });
const act = (values) => post("edits", { ...here(), ...values });

// for the ear only ---------------------------------------------------------------------------------------------------
const ear = { alone: "", off: "", tried: "", band: null, side: "both", dim: false };
function listen() {
  const query = new URLSearchParams();
  for (const name of ["alone", "off", "tried"]) if (ear[name]) query.set(name, ear[name]);
  rail.player.hear(query.toString());
  const range = ear.band === null ? null : [EDGES[ear.band], EDGES[ear.band + 1]];
  if (range || ear.side !== "both" || ear.dim || rail.player.shaped)
    rail.player.shape(range, ear.side, ear.dim ? DIMMED : 1);
  mark();
}
// What is listened to goes round in the section it is about.
function heardHere() {
  if (!rail.player.playing) {
    const range = rail.player.rangeOf(sectionId());
    rail.setLoop(range);
    rail.player.play(range.from, range).then(() => rail.tick(rail.player.position(), 0));
  }
}
function mark() {
  const pressed = (query, on) => {
    for (const button of document.querySelectorAll(query))
      button.setAttribute("aria-pressed", String(on(button.dataset)));
  };
  pressed("[data-alone]", (d) => ear.alone === d.alone);
  pressed("[data-without]", (d) => ear.off === d.without);
  pressed("[data-try]", (d) => ear.tried === d.try);
  pressed("[data-hear-steps]", () => ear.tried.startsWith("rough_mix") || ear.tried.startsWith("ride"));
  pressed("[data-band]", (d) => ear.band === Number(d.band));
  pressed("[data-side]", (d) => ear.side === d.side);
  pressed("[data-dim]", () => ear.dim);
}
/** @param {string} name @param {any} value @param {any} off */
function toggled(name, value, off = "") {
  ear[name] = ear[name] === value ? off : value;
  listen();
  if (ear[name] !== off) heardHere();
}
async function tryIt(button) {
  toggled("tried", button.dataset.try);
  const said = button.closest(".remedy")?.querySelector(".tried-said");
  if (!said || ear.tried !== button.dataset.try) return;
  const fields = Object.fromEntries(
    button.dataset.try
      .split(";")
      .slice(1)
      .map((part) => part.split("=")),
  );
  const answer = await fetch(`${path}/tried?${new URLSearchParams(fields)}`);
  if (answer.ok) said.innerHTML = await answer.text();
}
const ticked = (form) => [...form.querySelectorAll("[name=step]:checked")].map((box) => box.value);
const stepsOf = (form) => {
  const { section_id, layer_id } = fieldsOf(form);
  return { ...(section_id ? { section_id } : { layer_id }), only: ticked(form).join(",") };
};
function hearSteps(button) {
  const form = button.closest("form"),
    values = stepsOf(form);
  if (!values.only) return say("Tick at least one change to hear it.");
  const told = Object.entries(values).map(([name, value]) => `${name}=${value}`);
  toggled("tried", [form.dataset.kind, ...told].join(";"));
}
function doSteps(form) {
  const values = stepsOf(form);
  if (!values.only) return say("Tick at least one change to make it.");
  forget();
  act({ kind: form.dataset.kind, ...values });
}
function forget() {
  ear.tried = "";
  listen();
}
function choose(id) {
  show({ layer: field("layer").value === id ? "" : id, pair: "" });
}
// Up and down go from layer to layer, in the order of what is heard.
function along(by) {
  const ids = [...document.querySelectorAll(".share-row")].map((row) => row.dataset.room),
    at = ids.indexOf(field("layer").value);
  if (ids.length) choose(ids[(at + by + (at < 0 && by < 0 ? 1 : 0) + ids.length) % ids.length]);
}

page.listen({
  edit: (values) => {
    forget();
    return act(values);
  },
  choose: (text) => show({ select: text, pair: "", layer: "" }),
  clicks: {
    "[data-shown]": (tab) => show({ shown: tab.dataset.shown }),
    "[data-pair]": (button) => show({ pair: button.dataset.pair }),
    "[data-room]": (room) => choose(room.dataset.room),
    "[data-try]": tryIt,
    "[data-hear-steps]": hearSteps,
    "[data-tick-all]": (button) => {
      const boxes = [...button.closest("form").querySelectorAll("[name=step]")],
        on = boxes.some((box) => !box.checked);
      for (const box of boxes) box.checked = on;
    },
    "[data-alone]": (button) => toggled("alone", button.dataset.alone),
    "[data-without]": (button) => toggled("off", button.dataset.without),
    "[data-band]": (button) => toggled("band", Number(button.dataset.band), null),
    "[data-side]": (button) => toggled("side", button.dataset.side, "both"),
    "[data-dim]": () => toggled("dim", true, false),
    "[data-hear-beside]": (button) => beside.hear(Number(button.dataset.hearBeside)),
    "[data-beside-stop]": () => beside.stop(),
    "[data-blind]": (button) => beside.blind(button),
  },
  forms: {
    ".rough": doSteps,
    "#dose-form": async (form) => {
      const minutes = Math.round(rail.minutes());
      const answer = await fetch(
        `${path}/dose?${new URLSearchParams({ ...fieldsOf(form), minutes: String(minutes) })}`,
      );
      byId("dose-said").innerHTML = await answer.text();
    },
  },
  changes: {
    "#against": (select) => show({ against: select.value }),
    "#section-pick": (select) => show({ select: select.value, pair: "", layer: "" }),
  },
  early: (event, kind) => {
    if (kind !== "plain") return false;
    const room = event.target.closest?.("[data-room]");
    if (event.key === "Enter" && room instanceof SVGElement) choose(room.dataset.room);
    else if (event.key === "ArrowDown") along(1);
    else if (event.key === "ArrowUp") along(-1);
    else if (event.key === "Escape") show({ pair: "", layer: "" });
    else if ((event.key === "1" || event.key === "2") && document.getElementById("beside"))
      beside.hear(Number(event.key) - 1);
    else return false;
    return true;
  },
  step: (by) => stepAlong(field("select").value, by, (text) => show({ select: text, pair: "", layer: "" })),
  settled: () => {
    mark();
    beside.refresh();
  },
});
