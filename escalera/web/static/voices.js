// The page of voices: takes recorded, comped by clicks and drags, heard, polished; words laid; the stack.
import { arrivals } from "./arrivals.js";
import { byId, fieldsOf } from "./dom.js";
import { handrail } from "./handrail.js";
import { hear, listenAt, quiet } from "./hearing.js";
import { pageQueue } from "./queue.js";
import { say } from "./shell.js";
import { songPage, stepAlong } from "./songpage.js";
import { keep, kept as known, measureLatency, TakeInputs, whyNot } from "./take_input.js";
import { takeRecorder } from "./take_recorder.js";

const root = document.querySelector("[data-song]"),
  song = /** @type {HTMLElement} */ (root).dataset.song,
  path = `/songs/${song}/voices`;
const { post, ask } = pageQueue(root, path);
const field = (name) => /** @type {HTMLInputElement} */ (document.querySelector(`#state [name=${name}]`));
const value = (id) => /** @type {HTMLInputElement} */ (byId(id)).value;
const facts = () => JSON.parse(byId("voice-facts").textContent);
const here = () => Object.fromEntries(["select", "voice", "by", "take"].map((name) => [name, field(name).value]));
const section = () => Number(field("select").value.split(":")[1]);
const edit = (values) => post("edits", { ...here(), ...values });
const show = (change) => {
  for (const [name, text] of Object.entries(change)) field(name).value = text;
  return ask("show", here());
};
const rail = handrail({
  chosen: section,
  before: quiet,
  onPlace: (at, player) => head(at, player),
  looped: () => ({}),
});
listenAt(() => Number(value("volume")));

// the playhead over the phrase
function head(seconds, player) {
  const line = document.querySelector("[data-head]"),
    told = facts(),
    sections = player?.manifest?.sections ?? [],
    start = (sections.find((s) => s.id === told.section)?.start ?? 0) / 44100,
    share = (seconds - start - told.phrase_s[0]) / (told.phrase_s[1] - told.phrase_s[0]);
  if (!(line instanceof HTMLElement)) return;
  line.hidden = !(share >= 0 && share <= 1);
  line.style.left = `${100 * share}%`;
}

// recording -------------------------------------------------------------------------------------------------------------------
const input = new TakeInputs(rail.player.context(), /** @type {HTMLElement} */ (root).dataset.worklet);
const recorder = takeRecorder({
  rail,
  input,
  path,
  facts,
  field: value,
  kept,
  show: shown,
});
window.escalera = Object.assign(window.escalera ?? {}, { recorder, input });
// What was sung is kept; a long take is read in the background, and looked for until it is there.
async function kept(token) {
  const before = document.querySelectorAll(".take-row").length;
  await post(`takes/${token}/keep`, here());
  awaited(before, 60, 4000);
}
async function awaited(before, most, ms) {
  for (let tries = 0; tries < most && document.querySelectorAll(".take-row").length === before; tries++) {
    await new Promise((done) => setTimeout(done, ms));
    await show({});
  }
}
const HINT = "headphones on: loudspeakers would be recorded";
function shown(state) {
  const button = byId("record");
  button.textContent = state ? "Stop and keep" : "Record a take";
  button.setAttribute("aria-pressed", String(Boolean(state)));
  document.querySelector(".voice-page").classList.toggle("recording", Boolean(state));
  if (!state) {
    byId("input-said").textContent = HINT;
    byId("input-level").style.transform = "scaleX(0)";
    return;
  }
  const follow = () => {
    if (recorder.state() !== state) return;
    const db = 20 * Math.log10(Math.max(state.level, 1e-5));
    byId("input-level").style.transform = `scaleX(${Math.max(0, Math.min(1, 1 + db / 60))})`;
    byId("input-level").classList.toggle("hot", db > -3);
    byId("input-said").textContent = state.clipped
      ? `louder than full scale ${state.clipped}×: turn the input down`
      : `recording${state.said ? `, ${state.said}` : ""}, ${db < -55 ? "nearly silent" : `peak ${db.toFixed(0)} dB`}`;
    requestAnimationFrame(follow);
  };
  follow();
}
async function record() {
  try {
    await recorder.toggle();
    inputs();
  } catch (error) {
    recorder.stop();
    shown(null);
    say(error.message?.startsWith("The song") ? error.message : whyNot(error));
  }
}
async function inputs() {
  const list = /** @type {HTMLSelectElement} */ (byId("input-device")),
    chosen = list.value;
  const found = await input.devices().catch(() => []);
  list.replaceChildren(
    new Option("the usual one", ""),
    ...found.map((d) => new Option(d.label || "an input", d.deviceId)),
  );
  list.value = [...list.options].some((o) => o.value === chosen) ? chosen : "";
  const late = known()[list.value || "usual"];
  if (late !== undefined) /** @type {HTMLInputElement} */ (byId("latency")).value = String(late);
}
async function latency() {
  const button = byId("measure-latency");
  try {
    await input.open(value("input-device"));
  } catch (error) {
    return say(whyNot(error));
  }
  button.textContent = "Listening …";
  const found = await measureLatency(input);
  button.textContent = "Measure with clicks";
  if (found === null)
    return say(
      "The clicks were not heard again. Turn the output up, or hold the headphones to the microphone, and measure once more.",
    );
  const ms = Math.round(found * 10000) / 10;
  /** @type {HTMLInputElement} */ (byId("latency")).value = String(ms);
  keep(value("input-device"), ms);
  say(`Sound takes ${ms} ms from the output back into this input; takes are laid earlier by as much.`, "calm");
}
if (!isSecureContext) byId("input-said").textContent = whyNot(null);

// the comp, drawn over the ladder -----------------------------------------------------------------------------------------------
let drag = null;
const ticksAt = (event) => {
  const plot = byId("voice-plot"),
    box = plot.getBoundingClientRect(),
    share = Math.min(1, Math.max(0, (event.clientX - box.left) / box.width));
  return Math.round(Number(plot.dataset.low) + share * (Number(plot.dataset.high) - Number(plot.dataset.low)));
};
document.addEventListener("pointerdown", (event) => {
  if (!(/** @type {Element} */ (event.target).closest?.("#voice-plot")) || event.button || !field("take").value) return;
  drag = { from: ticksAt(event), x: event.clientX };
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const plot = byId("voice-plot"),
    mark = byId("marked"),
    length = Number(plot.dataset.high) - Number(plot.dataset.low),
    [a, b] = [drag.from, ticksAt(event)].sort((x, y) => x - y);
  mark.hidden = Math.abs(event.clientX - drag.x) < 6;
  mark.style.left = `${(100 * (a - Number(plot.dataset.low))) / length}%`;
  mark.style.width = `${(100 * (b - a)) / length}%`;
});
document.addEventListener("pointerup", (event) => {
  if (!drag) return;
  const [low_ticks, high_ticks] = [drag.from, ticksAt(event)].sort((x, y) => x - y),
    far = Math.abs(event.clientX - drag.x) >= 6;
  drag = null;
  byId("marked").hidden = true;
  if (far)
    edit({
      kind: "comp",
      section_id: section(),
      part: field("voice").value,
      take_id: field("take").value,
      low_ticks,
      high_ticks,
    });
});

// polish ----------------------------------------------------------------------------------------------------------------------
const told = (range) =>
  Number(range.max) === 1 ? `${Math.round(100 * range.value)} %` : `${range.value} dB`.replace("-", "−");
document.addEventListener("input", (event) => {
  const range = event.target;
  if (range instanceof HTMLInputElement && range.closest("#polish"))
    range.parentElement.querySelector("output").textContent = told(range);
});

// files of a singer: sorted by the server as they are read -----------------------------------------------------------------------
async function bringIn(chooser) {
  const files = [...chooser.files],
    before = document.querySelectorAll(".take-row").length;
  chooser.value = "";
  const sent = await arrivals(() => show({}), { sung_in: song, section: section() }).bring(files);
  if (sent) say(`${sent} sent: each is laid as the voice that it sings, once it is read.`, "calm");
  if (sent) awaited(before, 60, 1000);
}

// words that are being written outlive whatever else is answered meanwhile ------------------------------------------------------
let draft = null; // { place, text }
const place = () => `${section()} ${byId("lyric-text").dataset.version}`;
document.addEventListener("input", (event) => {
  if (event.target instanceof HTMLTextAreaElement && event.target.id === "lyric-text")
    draft = { place: place(), text: event.target.value };
});
// Panels that were opened stay open.
const opened = new Set();
document.addEventListener(
  "toggle",
  (event) => {
    if (event.target instanceof HTMLDetailsElement && event.target.id)
      event.target.open ? opened.add(event.target.id) : opened.delete(event.target.id);
  },
  true,
);
function settled(fresh) {
  keepDraft(fresh);
  for (const id of opened) {
    const panel = byId(id);
    if (panel instanceof HTMLDetailsElement) panel.open = true;
  }
}
function keepDraft(fresh) {
  if (!fresh) return; // a notice only
  const box = /** @type {HTMLTextAreaElement} */ (byId("lyric-text"));
  if (draft?.place !== place() || draft.text.trim() === box.value.trim()) draft = null;
  else box.value = draft.text;
}

// clicks, forms and keys ----------------------------------------------------------------------------------------------------
const alone = (url, button) => {
  if (rail.player.playing) rail.player.stop();
  hear(url, button);
};
const page = songPage({ song, place: "voices", post, rail, here, select: () => field("select").value });
let anew = false;
page.listen({
  edit,
  choose: (text) => show({ select: text, take: text.split(":")[1] === String(section()) ? field("take").value : "" }),
  clicks: {
    "#record": record,
    "#measure-latency": latency,
    "[data-take]": (button) => show({ take: button.dataset.take }),
    "[data-voice]": (button) => show({ voice: button.dataset.voice, take: "" }),
    "[data-hear-take]": (button) => alone(button.dataset.hearTake, button),
    "[data-hear-polish]": (button) =>
      alone(
        `${button.dataset.hearPolish}?${new URLSearchParams({ ...fieldsOf(button.closest("form")), polish: "yes" })}`,
        button,
      ),
    "[data-learn]": (button) => post("learn", { ...here(), which: button.dataset.learn }),
    "[data-anew]": (button) => {
      anew = true;
      button.closest("form").requestSubmit();
    },
  },
  forms: {
    "[data-edit=set_lyric]": (form) => {
      const values = { kind: "set_lyric", ...fieldsOf(form), ...(anew ? { anew: "true" } : {}) };
      anew = false;
      return edit(values);
    },
  },
  changes: {
    "#voice": (list) => show({ voice: list.value, take: "" }),
    "#comp-by": (list) => show({ by: list.value }),
    "#language": (list) => edit({ kind: "set_language", language: list.value }),
    "#monitor": (box) => input.monitor(box.checked),
    "#latency": (box) => keep(value("input-device"), Number(box.value.replace(",", ".")) || 0),
    "#input-device": inputs,
    "#sung-files": bringIn,
    "#scope": () => {},
    "#count-in": () => {},
    "#input-channel": () => {},
    "#singer": () => {},
  },
  fields: ["lyric-text", "latency", "singer"],
  early: (event, pass) => {
    if (pass !== "plain" || !recorder.on() || !["Escape", "Enter"].includes(event.key)) return false;
    recorder.stop();
    return true;
  },
  keys: { v: record, e: () => byId("lyric-text").focus() },
  step: (by) => stepAlong(field("select").value, by, (text) => show({ select: text, take: "" })),
  settled,
});
inputs();
// Takes that broke off are kept as soon as somebody looks.
post("recover", here());
setTimeout(() => post("recover", here()), 14_000);
