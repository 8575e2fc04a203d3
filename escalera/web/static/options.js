// Options at a join: pieces scheduled one after the other on one clock, at one gain; a verdict in one key press.
import { again, openDialog } from "./arranging.js";
import { say } from "./shell.js";

const $ = (id) => document.getElementById(id),
  box = () => $("options"),
  LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ";
let song,
  rail,
  edit,
  chosen,
  after,
  sounding = null,
  order = [],
  lifts = {},
  draft = "";

export function options(page) {
  ({ song, rail, edit, chosen, after } = page);
  window.escalera.passage = () => sounding?.pieces ?? [];
  $("arranging").addEventListener("close", stop);
  for (const name of ["play", "loop", "lead-in", "from-here"]) {
    const act = rail.actions[name];
    rail.actions[name] = () => {
      stop();
      act();
    };
  }
}
export function openOptions(section = chosen()) {
  if (!Number(section)) return say("Choose a section first: its options are heard at its join.");
  stop();
  lifts = {};
  return openDialog("options", { section }).then(() => {
    order = shown();
    people();
    if (draft) {
      $("options-text").value = draft;
      draft = "";
      read();
    }
  });
}
// The section as it is now, kept beside itself while the song plays on.
export function keepOption(section = chosen()) {
  if (!Number(section)) return say("Choose a section first: it is kept as it is now, as one of its options.");
  edit({
    kind: "park_body",
    section_id: section,
    name: "saved while playing",
    who: localStorage.getItem("person") ?? "",
  });
  after(() => {
    if (!$("notice").matches(".show.error"))
      say("Kept as an option of this section. O hears them one after the other.", "calm");
  });
}
const shown = () => [...document.querySelectorAll("[data-body]")].map((row) => row.dataset.body);
const rowOf = (body) => document.querySelector(`[data-body="${body}"]`);
const blind = () => $("passage-blind").checked;

// listening --------------------------------------------------------------------------------------------------------------
async function piece(body) {
  const { section, revision } = box().dataset;
  const response = await fetch(
    `/songs/${song}/options/${revision}/${section}/${body}.wav?lead=${$("passage-lead").value}&bars=${$("passage-bars").value}`,
  );
  if (!response.ok) throw new Error("piece");
  const lift = response.headers.get("X-Lift-LU");
  lifts[body] = lift === null ? null : Number(lift);
  return {
    body,
    lead: Number(response.headers.get("X-Lead-S")),
    sound: await rail.player.context().decodeAudioData(await response.arrayBuffer()),
  };
}
async function play(bodies) {
  stop();
  if (rail.player.playing) rail.player.stop();
  const context = rail.player.context(),
    gain = context.createGain(),
    mine = { bodies, gain, pieces: [], sources: [] };
  sounding = mine;
  await context.resume();
  gain.gain.setValueAtTime(0, context.currentTime);
  gain.connect(context.destination);
  button();
  tell("making the sound …", "");
  let next = 0;
  for (const body of bodies) {
    let made;
    try {
      made = await piece(body);
    } catch {
      if (sounding === mine) {
        stop();
        say("The option could not be made to sound. Close the options and open them again.");
      }
      return;
    }
    if (sounding !== mine) return;
    if (!next) {
      next = context.currentTime + 0.08;
      gain.gain.setValueAtTime(0, next);
      gain.gain.linearRampToValueAtTime(10 ** (rail.volume() / 20), next + 0.4);
      mine.frame = requestAnimationFrame(() => follow(mine));
    }
    const source = context.createBufferSource(),
      at = Math.max(next, context.currentTime + 0.02);
    source.buffer = made.sound;
    source.connect(gain);
    source.start(at);
    mine.sources.push(source);
    mine.pieces.push({ ...made, at, join: at + made.lead, end: at + made.sound.duration });
    next = at + made.sound.duration;
  }
  mine.done = next;
}
function follow(mine) {
  if (sounding !== mine) return;
  const now = rail.player.context().currentTime,
    here = mine.pieces.find((p) => p.at <= now && now < p.end);
  if (mine.done && now > mine.done) return stop("heard");
  if (here) {
    const name = blind() ? "heard blind" : (rowOf(here.body)?.dataset.name ?? ""),
      lift = lifts[here.body],
      into = box().dataset.leadsIn;
    for (const row of document.querySelectorAll("[data-body]"))
      row.classList.toggle("at-hand", !blind() && row.dataset.body === here.body);
    tell(
      name,
      now < here.join
        ? `the end of ${into}`
        : blind() || lift === null
          ? "the option"
          : `the option, ${signed(lift)} LU against what leads in`,
      mark(here.body),
    );
  }
  mine.frame = requestAnimationFrame(() => follow(mine));
}
const signed = (value) => `${value < 0 ? "−" : "+"}${Math.abs(value).toFixed(1)}`;
const mark = (body) => {
  const at = order.indexOf(String(body));
  return blind() ? LETTERS[at] : String(at + 1);
};
function tell(name, where, letter = "…") {
  for (const [id, text] of [
    ["passage-letter", letter],
    ["passage-name", name],
    ["passage-where", where],
  ])
    if ($(id) && $(id).textContent !== text) $(id).textContent = text;
}
function button() {
  const b = document.querySelector("[data-passage]");
  if (b) b.textContent = sounding ? "Stop" : "Hear them all";
}
export function stop(how) {
  if (!sounding) return;
  const { sources, gain, frame } = sounding,
    context = rail.player.context();
  cancelAnimationFrame(frame);
  sounding = null;
  gain.gain.cancelScheduledValues(context.currentTime);
  gain.gain.setTargetAtTime(0, context.currentTime, 0.01);
  for (const source of sources)
    try {
      source.stop(context.currentTime + 0.06);
    } catch {
      /* it had ended */
    }
  for (const row of document.querySelectorAll(".option-row.at-hand")) row.classList.remove("at-hand");
  if (how === "heard") tell("All were heard. Which one?", "", "?");
  else if (box()) tell("", "", "–");
  button();
}
// Blind: the order is drawn by lot, and neither names nor figures are shown until one is taken.
function draw() {
  stop();
  order = shown();
  if (blind())
    for (let i = order.length - 1; i > 0; i--) {
      const j = crypto.getRandomValues(new Uint32Array(1))[0] % (i + 1);
      [order[i], order[j]] = [order[j], order[i]];
    }
  box().classList.toggle("blind", blind());
  if ($("verdict-keys"))
    $("verdict-keys").textContent = blind() ? `A to ${LETTERS[order.length - 1]}` : `1 to ${Math.min(9, order.length)}`;
  document.querySelectorAll("[data-verdict]").forEach((b, i) => {
    b.dataset.verdict = order[i];
    b.textContent = blind() ? LETTERS[i] : String(i + 1);
  });
  tell(blind() ? "The order is drawn. Press Space." : "", "", "–");
}

// the verdict ------------------------------------------------------------------------------------------------------------
function take(body) {
  const section_id = box().dataset.section,
    who = $("verdict-who")?.value ?? "",
    reason = $("verdict-reason")?.value.trim() || measured(body),
    heardBlind = blind() ? "heard blind, " : "";
  remember(who);
  stop();
  edit(
    body === "0"
      ? { kind: "keep_body", section_id, who, reason: heardBlind + reason }
      : { kind: "exchange_body", section_id, body_id: body, who, reason: heardBlind + reason },
  );
  again(() => openOptions(section_id));
}
function measured(body) {
  const mine = lifts[body],
    others = Object.entries(lifts)
      .filter(([other, lift]) => other !== body && lift !== null)
      .map(([, lift]) => lift);
  if (mine === undefined || mine === null) return "without a reason";
  const best = others.length ? Math.max(...others) : null;
  return `lifts ${signed(mine)} LU${best === null ? "" : `, the next ${signed(best)}`}`;
}
function remember(who) {
  if (!who.trim()) return;
  localStorage.setItem("person", who.trim());
  const known = JSON.parse(localStorage.getItem("people") ?? "[]").filter((name) => name !== who.trim());
  localStorage.setItem("people", JSON.stringify([who.trim(), ...known].slice(0, 12)));
}
function people() {
  for (const field of document.querySelectorAll("[data-person]")) field.value ||= localStorage.getItem("person") ?? "";
  $("people").replaceChildren(
    ...JSON.parse(localStorage.getItem("people") ?? "[]").map((value) =>
      Object.assign(document.createElement("option"), { value }),
    ),
  );
}

// said in words: read while it is written; what cannot be had stays to be said otherwise ------------------------------------
let waiting = null;
function read() {
  clearTimeout(waiting);
  waiting = setTimeout(() => {
    if (box())
      htmx.ajax("GET", `/songs/${song}/options/read`, {
        target: "#options-read",
        swap: "innerHTML",
        values: { section: box().dataset.section, text: $("options-text").value },
      });
  }, 180);
}
document.addEventListener("input", (event) => {
  if (event.target.id === "options-text") read();
});
document.addEventListener("change", (event) => {
  if (event.target.id === "passage-blind") draw();
  if (event.target.matches?.("#passage-lead, #passage-bars")) {
    lifts = {};
    stop();
  }
});
document.addEventListener("submit", (event) => {
  if (!event.target.matches?.("#arranging form[data-options-again]")) return;
  remember(event.target.elements.who.value);
  draft = [...document.querySelectorAll("[data-unread]")].map((row) => row.dataset.unread).join("\n");
  const section = box().dataset.section;
  again(() => openOptions(section));
});
document.addEventListener("click", (event) => {
  const hit = (query) => event.target.closest?.(query);
  if (hit("[data-options]")) openOptions(hit("[data-options]").dataset.options);
  else if (hit("[data-keep-option]")) keepOption(hit("[data-keep-option]").dataset.keepOption);
  else if (hit("[data-passage]")) {
    if (sounding) stop();
    else play(order);
  } else if (hit("[data-hear-option]")) {
    const { body } = hit("[data-body]").dataset;
    if (sounding?.bodies.length === 1 && sounding.bodies[0] === body) stop();
    else play([body]);
  } else if (hit("[data-verdict]")) take(hit("[data-verdict]").dataset.verdict);
  else if (hit("[data-do][data-options-again]")) {
    const section = box().dataset.section;
    again(() => openOptions(section));
  }
});
document.addEventListener("keydown", (event) => {
  if (
    !$("arranging").open ||
    !box() ||
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    event.target.matches("textarea, input:not([type=checkbox]), select")
  )
    return;
  if (event.key === " " && !event.target.closest("button")) {
    event.preventDefault();
    if (sounding) stop();
    else play(order);
  } else {
    const at =
      blind() && event.key.length === 1 && LETTERS.includes(event.key.toUpperCase())
        ? LETTERS.indexOf(event.key.toUpperCase())
        : Number(event.key) - 1;
    if (order.length > 1 && order[at] !== undefined) {
      event.preventDefault();
      take(order[at]);
    }
  }
});
