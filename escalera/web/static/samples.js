// The wall of samples, across songs and beside one: walking along it hears each sample, alone or in the section that goes round.
import { arrivals } from "./arrivals.js";
import { all, byId, fieldsOf } from "./dom.js";
import { handrail } from "./handrail.js";
import { hear, quiet } from "./hearing.js";
import { pageQueue } from "./queue.js";
import { say, typing } from "./shell.js";
import { songPage, stepAlong } from "./songpage.js";
import { trying } from "./trying.js";

const root = byId("samples"),
  song = root.dataset.song,
  path = song ? `/songs/${song}/samples` : "/samples";
const field = (name) => /** @type {HTMLInputElement | null} */ (document.querySelector(`#state [name=${name}]`));
let chosen = Number(document.querySelector(".sample.chosen")?.getAttribute("data-sample") ?? 0);
const wish = () => fieldsOf(byId("find"));
const kept = () => ({ select: field("select").value, clip: field("clip").value, slice: field("slice").value });
const here = () => ({ ...wish(), chosen, ...(song ? kept() : {}) });
const post = (name, values = {}) =>
  htmx.ajax("POST", `/samples/${name}`, { source: root, swap: "none", values: { ...values, ...here() } });
const queue = song ? pageQueue(root, path) : null;
const refresh = () =>
  queue ? queue.ask("show", here()) : htmx.ajax("GET", "/samples/wall", { source: root, swap: "none", values: here() });
const tiles = () => all(".sample");
const tile = (id) => byId(`sample-${id}`);
const { bring, dropped, watch } = arrivals(refresh);

// listening -----------------------------------------------------------------------------------------------------------------
const rail = song
  ? handrail({
      chosen: () => Number(field("select").value.split(":")[1]),
      before: () => {
        quiet();
        round.stop();
      },
    })
  : null;
const round = trying({
  context: () => rail.player.context(),
  volume: () => rail.volume(),
  beat: () => Number(byId("side").dataset.beat || root.dataset.beat || 0.5),
  told: marks,
});
// What was tried in the loop, as the log of what was heard takes it: the addresses say which state, section and sample.
function triedParts() {
  return round.heard().map(({ base, part, from, seconds }) => {
    const [, revision, place] = base.match(/samples\/(\d+)\/(\d+)\//) ?? [],
      id = part.match(/\/(\d+)\.wav/)?.[1],
      how = Object.fromEntries(new URLSearchParams(part.split("?")[1] ?? "")),
      layer = Number(new URLSearchParams(base.split("?")[1] ?? "").get("layer") ?? 0);
    const tried = id ? { sample: Number(id), use: how.use ?? "loop", family: how.family ?? "" } : {};
    return { revision: Number(revision), section: Number(place), from_s: from, seconds, layer, ...tried };
  });
}
if (rail) rail.log.add(triedParts);
const section = () => field("select").value.split(":")[1];
const layer = () => field("select").value.split(":")[2] ?? "0";
const address = (file, values = {}) =>
  `${path}/${field("base").value}/${section()}/${file}.wav?${new URLSearchParams(values)}`;
const replaced = () => (layer() === "0" ? {} : { layer: layer() });
// The section as it stands, without what is to be exchanged; and what a sample would play in it.
const under = () => address("0", replaced());
const over = (id) => address(String(id), { ...asked(), ...replaced() });
// As what the chosen sample is to be laid; the others are heard as they usually are.
function asked() {
  const form = document.querySelector("[data-lay]");
  if (!form) return {};
  const { sample_id, use, family } = fieldsOf(form);
  return { own: sample_id, use, family };
}
function go(base, part = "") {
  if (round.base() === base && round.part() === part) return round.stop();
  quiet();
  if (rail.player.playing) rail.player.stop();
  round.play(base, part);
}
const inLoop = (id) => (id ? go(under(), over(id)) : go(address("0")));
function alone(id) {
  const element = tile(id);
  if (!element) return;
  if (round.base()) round.stop();
  if (rail?.player.playing) rail.player.stop();
  hear(`/samples/${id}/${element.dataset.content}.wav`, element);
}
function marks() {
  const tried = round.part().match(/\/(\d+)\.wav/)?.[1] ?? (round.base() ? "0" : "");
  for (const button of all("[data-hear-mend]")) {
    const way = `way=${button.dataset.hearMend.replace(" ", "+")}`;
    button.setAttribute("aria-pressed", String(round.base().endsWith(way)));
  }
  for (const button of all("[data-hear-in]"))
    button.setAttribute("aria-pressed", String(button.dataset.hearIn === tried));
  for (const each of tiles()) each.classList.toggle("round", each.dataset.sample === tried);
}

// choosing ------------------------------------------------------------------------------------------------------------------
let waiting = 0;
function choose(id, sound = true) {
  if (!id || !tile(id)) return;
  for (const each of tiles()) {
    const on = Number(each.dataset.sample) === id;
    each.classList.toggle("chosen", on);
    each.setAttribute("aria-selected", String(on));
    each.tabIndex = on ? 0 : -1;
  }
  chosen = id;
  if (field("chosen")) field("chosen").value = String(id);
  tile(id).focus({ preventScroll: true });
  tile(id).scrollIntoView({ block: "nearest" });
  if (sound && round.base()) round.play(under(), over(id));
  else if (sound) alone(id);
  clearTimeout(waiting);
  waiting = setTimeout(() => {
    htmx.ajax("GET", `${path}/side`, { target: "#side", swap: "outerHTML", values: here() }).then(marks);
    if (round.base()) for (const near of neighbours(id)) round.ready(over(near)); // so that the next step sounds at once
  }, 60);
}
function neighbours(id) {
  const list = tiles().map((each) => Number(each.dataset.sample)),
    at = list.indexOf(id);
  return [list[at + 1], list[at - 1]].filter(Boolean);
}
function columns() {
  const list = tiles();
  if (list.length < 2) return 1;
  const first = list[0].offsetTop;
  const next = list.findIndex((each) => each.offsetTop > first);
  return next < 0 ? list.length : next;
}
function walk(by) {
  const list = tiles(),
    at = list.findIndex((each) => Number(each.dataset.sample) === chosen),
    next = list[Math.max(0, Math.min(list.length - 1, at + by))];
  if (next && Number(next.dataset.sample) !== chosen) choose(Number(next.dataset.sample));
}
function gridKey(event) {
  if (!event.target.closest?.(".sample")) return false;
  const steps = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -columns(), ArrowDown: columns(), Home: -1e6, End: 1e6 };
  if (event.key in steps) walk(steps[event.key]);
  else if (event.key === " ") alone(chosen);
  else if (event.key === "Enter" && song && event.shiftKey) inLoop(chosen);
  else if (event.key === "Enter" && song) lay();
  else if (event.key === "*") like();
  else if (event.key === "Escape") {
    quiet();
    round.stop();
  } else return false;
  event.preventDefault();
  return true;
}
function like() {
  const button = document.querySelector("[data-like]");
  post(`${chosen}/favourite`, { liked: button?.getAttribute("aria-pressed") === "true" ? "0" : "1" });
}
function lay() {
  const form = document.querySelector("[data-lay]");
  if (form && queue) queue.post("edits", { kind: "lay_sample", section_id: section(), ...fieldsOf(form), ...here() });
}
function askFor(change) {
  for (const [name, value] of Object.entries(change)) {
    const input = /** @type {HTMLInputElement | null} */ (document.querySelector(`#find [name=${name}]`));
    if (input) input.value = value;
  }
  return refresh();
}

// where the energy would land: asked for the tiles that are shown, a few at a time -------------------------------------------
let landing = "";
async function landings() {
  if (!song) return;
  const { base } = fieldsOf(byId("state")),
    ids = tiles().map((each) => each.dataset.sample);
  const how = asked(),
    mine = `${base} ${section()} ${ids.join()} ${Object.values(how).join()}`;
  if (mine === landing) return;
  landing = mine;
  for (let at = 0; at < ids.length && landing === mine; at += 12) {
    const some = ids.slice(at, at + 12).join();
    const answer = await fetch(
      `${path}/${base}/${section()}/landings?${new URLSearchParams({ ids: some, layer: layer(), ...how })}`,
    ).catch(() => null);
    if (!answer?.ok) return;
    const found = await answer.json();
    for (const [id, [energy, off]] of Object.entries(found)) {
      const place = document.querySelector(`[data-lands="${id}"]`);
      if (!place) continue;
      place.textContent = `→ ${energy.toFixed(1)}`;
      place.setAttribute("title", `${off > 0 ? "+" : "−"}${Math.abs(off).toFixed(1)} against the target`);
      place.classList.toggle("near", Math.abs(off) <= 0.5);
      place.setAttribute("data-off", String(Math.abs(off)));
    }
  }
  if (wish().sort === "nearest") sortByLanding();
}
function sortByLanding() {
  const grid = byId("sample-grid");
  const off = (each) => Number(each.querySelector("[data-lands]")?.getAttribute("data-off") ?? 99);
  for (const each of tiles().sort((a, b) => off(a) - off(b))) grid.append(each);
  const more = grid.querySelector(".more");
  if (more) grid.append(more);
}

// clicks, forms, keys -------------------------------------------------------------------------------------------------------
const clicks = {
  ".sample": (each) => choose(Number(each.dataset.sample)),
  "[data-hear-alone]": (button) => alone(Number(button.dataset.hearAlone)),
  "[data-hear-in]": (button) => inLoop(Number(button.dataset.hearIn)),
  "[data-like]": like,
  "[data-wish]": (button) => askFor(JSON.parse(button.dataset.wish)),
  "[data-choose]": (button) => choose(Number(button.dataset.choose)),
  "[data-own]": () => post("own").then(watch),
  "[data-arrivals]": (button) => post(`arrivals/${button.dataset.arrivals}`),
  "[data-keep-heard]": () =>
    htmx.ajax("POST", `${path}/heard`, {
      source: root,
      swap: "none",
      values: { ...here(), parts: JSON.stringify(rail.log.all()) },
    }),
  "[data-bounce]": (button) =>
    htmx
      .ajax("POST", `/songs/${song}/bounces/add/${button.dataset.bounce}`, { source: root, swap: "none" })
      .then(() => (location.href = `/songs/${song}/bounces`)),
  "[data-forget]": (button) => post(`wanted/${button.dataset.forget}/forget`),
  "[data-remove]": (button) => post(`${button.dataset.remove}/remove`),
  "[data-tempo]": (button) => post(`${chosen}/correct`, { tempo_bpm: button.dataset.tempo }),
  "[data-reject]": (button) =>
    post(`${button.dataset.reject}/rejected`, { song_id: song, rejected: button.dataset.was === "1" ? "0" : "1" }).then(
      refresh,
    ),
  "[data-exchange]": (button) =>
    queue.post("edits", { kind: "exchange_sample", layer_id: layer(), sample_id: button.dataset.exchange, ...here() }),
  "[data-cut]": (plot, event) => {
    const box = plot.getBoundingClientRect(),
      tick = Math.round((Number(plot.dataset.cut) * (event.clientX - box.left)) / box.width);
    queue.post("edits", {
      ...here(),
      kind: "slice_clip",
      layer_id: layer(),
      number: field("clip").value,
      ticks: JSON.stringify([tick]),
    });
  },
  "[data-slice]": (button) => chooseSlice(Number(button.dataset.slice)),
  "[data-hear-mend]": (button) =>
    go(address("mend", { layer: layer(), clip: field("clip").value, way: button.dataset.hearMend })),
  "[data-more]": (button) =>
    htmx.ajax("GET", `${path}/more`, {
      target: button,
      swap: "outerHTML",
      values: { ...here(), page: button.dataset.more },
    }),
};
// What is not found is noted; beside a song a sound may play in its place until it is.
function want(form) {
  const values = fieldsOf(form);
  if (values.stand_in)
    queue.post("edits", { ...here(), kind: "add_stand_in", words: values.words, section_id: section() });
  else post("wanted", values);
}
const forms = {
  "[data-lay]": lay,
  "[data-correct]": (form) => post(`${form.dataset.correct}/correct`, fieldsOf(form)),
  "[data-describe]": (form) => post(`${form.dataset.describe}/describe`, fieldsOf(form)),
  "[data-vocode]": (form) =>
    htmx.ajax("POST", `${path}/vocode/${form.dataset.vocode}`, {
      source: root,
      swap: "none",
      values: { ...here(), ...fieldsOf(form) },
    }),
  "[data-texture]": (form) => post(`${chosen}/texture`, fieldsOf(form)),
  "[data-want]": want,
  "#find": refresh,
};
const changes = {
  "#files": (input) => bring(input.files).then(() => (input.value = "")),
  "#folder": (input) => bring(input.files).then(() => (input.value = "")),
  "#find select": refresh,
  "#clip-number": (list) => {
    field("clip").value = list.value;
    refresh();
  },
  "[data-lay] select": () => {
    if (round.part()) round.play(under(), over(chosen));
    landings();
  },
  "[data-tick]": (box) => {
    box.form.elements[box.dataset.tick].value = String(box.checked);
    box.form.requestSubmit();
  },
};
// Slices: the arrows go from one to the next, what is done to one is heard at once.
function chooseSlice(index) {
  const list = all(".slice");
  if (!list[index]) return;
  field("slice").value = String(index);
  for (const each of list) {
    const on = Number(each.dataset.slice) === index;
    each.setAttribute("aria-selected", String(on));
    each.tabIndex = on ? 0 : -1;
  }
  for (const button of all("#slice-tools [data-do]")) {
    const told = JSON.parse(button.dataset.do);
    if ("index" in told) button.dataset.do = JSON.stringify({ ...told, index });
    else if (told.kind === "play_slice")
      button.dataset.do = JSON.stringify({ ...told, number: Number(list[index].dataset.clip) });
  }
  list[index].focus({ preventScroll: true });
}
function sliceKey(event) {
  const at = event.target.closest?.(".slice")?.dataset.slice;
  if (at === undefined) return false;
  const index = Number(at),
    press = (change) =>
      all("#slice-tools [data-do]")
        .find((button) => JSON.parse(button.dataset.do).change === change)
        ?.click();
  if (event.key === "ArrowLeft") chooseSlice(index - 1);
  else if (event.key === "ArrowRight") chooseSlice(index + 1);
  else if (event.key === "ArrowUp") press("octave up");
  else if (event.key === "ArrowDown") press("octave down");
  else if (event.key === "Delete" || event.key === "Backspace") press("mute");
  else if (event.key === ",") press("earlier");
  else if (event.key === ".") press("later");
  else return false;
  event.preventDefault();
  return true;
}
let typingWait = 0;
byId("find").addEventListener("input", (event) => {
  if (/** @type {HTMLElement} */ (event.target).tagName === "SELECT") return;
  clearTimeout(typingWait);
  typingWait = setTimeout(refresh, 180);
});
root.addEventListener("dragover", (event) => {
  event.preventDefault();
  root.classList.add("over");
});
root.addEventListener("dragleave", () => root.classList.remove("over"));
root.addEventListener("drop", (event) => {
  event.preventDefault();
  root.classList.remove("over");
  dropped(event.dataTransfer.items);
});
function settled() {
  const there = document.querySelector(".sample.chosen");
  chosen = Number(there?.getAttribute("data-sample") ?? chosen);
  marks();
  landings();
}
const find = () => byId("find-words").focus();

if (song) {
  const page = songPage({ song, place: "samples", post: queue.post, rail, here, select: () => field("select").value });
  page.listen({
    edit: (values) => queue.post("edits", { ...here(), ...values }),
    choose: (text) => {
      field("select").value = text;
      return refresh();
    },
    clicks,
    forms,
    changes,
    early: (event, pass) => pass === "plain" && (gridKey(event) || sliceKey(event)),
    keys: { "/": find },
    fields: ["find-words"],
    step: (by) =>
      stepAlong(field("select").value, by, (text) => {
        field("select").value = text;
        round.forget();
        refresh();
      }),
    settled: (fresh) => {
      if (fresh) {
        round.forget();
        if (round.base()) round.play(address("0"));
      }
      settled();
    },
  });
} else {
  const first = (table, event) => {
    for (const [query, act] of Object.entries(table)) {
      const hit = event.target.closest?.(query);
      if (hit) return () => act(hit, event);
    }
    return null;
  };
  document.addEventListener("click", (event) => first(clicks, event)?.());
  document.addEventListener("change", (event) => first(changes, event)?.());
  document.addEventListener("submit", (event) => {
    const act = first(forms, event);
    if (!act) return;
    event.preventDefault();
    act();
  });
  document.addEventListener("keydown", (event) => {
    if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    if (gridKey(event)) return;
    if (event.key === "/") {
      event.preventDefault();
      find();
    }
  });
  document.addEventListener("htmx:afterSettle", settled);
}
// The section as it stands is made ready while the wall is looked at, so that the first sample tried in it sounds soon.
if (song) setTimeout(() => round.ready(under()), 700);
if (document.querySelector(".bringing")) watch();
landings();
window.escalera = Object.assign(window.escalera ?? {}, { round: () => round.part() || round.base(), say });
