// The sound picker: sounds heard, found, marked as favourites and taken, by hand and keys.
import { all, fit } from "./dom.js";
import { hear, quiet } from "./hearing.js";

/** @type {(values: object) => unknown} */
let edit = () => undefined,
  section = () => 0;
// `act` makes the edit of what is taken; `chosen` gives the section in which a new layer plays at once.
export function picker(act, chosen = () => 0) {
  edit = act;
  section = chosen;
}

document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-sounds], [data-hear], [data-like], [data-take]");
  if (!button) return;
  const d = button.dataset;
  if (d.sounds) openPicker(d.sounds);
  else if (d.like) like(button);
  else if (d.take !== undefined) take(button.closest("[data-sound]"));
  else if (d.hear) hear(d.hear, button.closest("[data-sound]"));
});
function openPicker(url) {
  const dialog = document.getElementById("sounds");
  document.body.dataset.opening = url;
  htmx
    .ajax("GET", url, { target: "#sounds", swap: "innerHTML" })
    .finally(() => delete document.body.dataset.opening)
    .then(() => {
      if (!dialog.open) dialog.showModal();
      const chosen = dialog.querySelector(".pick.chosen") ?? dialog.querySelector(".pick");
      chosen?.querySelector("[data-hear]").focus();
      chosen?.scrollIntoView({ block: "center" });
    });
}
document.getElementById("sounds")?.addEventListener("close", quiet);
const shown = () => all("#sounds .pick").filter((p) => !p.hidden && !p.closest("[hidden]"));
function find() {
  const dialog = document.getElementById("sounds"),
    asked = dialog.querySelector("[data-find]").value;
  const job = dialog.querySelector("[data-find-job]").value,
    liked = dialog.querySelector("[data-find-liked]").checked;
  for (const p of all(".pick", dialog)) {
    const rank = fit(asked, p.querySelector("b").textContent, p.dataset.words);
    p.hidden = !rank || (job && p.dataset.job !== job) || (liked && p.dataset.liked !== "true");
    p.style.order = String(-rank);
  }
  for (const f of all(".picker-family", dialog)) {
    const best = all(".pick:not([hidden])", f).map((p) => Number(p.style.order));
    f.hidden = !best.length;
    f.style.order = asked.trim() ? String(Math.min(0, ...best)) : "";
  }
}
document.addEventListener("input", (event) => {
  if (event.target.closest?.(".picker-tools")) find();
});
function take(pick) {
  const { layer, stack } = JSON.parse(document.querySelector("[data-picker]").dataset.picker),
    sound = pick.dataset.sound;
  document.getElementById("sounds").close();
  edit(
    stack
      ? { kind: "add_stack", layer_id: layer, sound }
      : layer
        ? { kind: "set_sound", layer_id: layer, sound }
        : { kind: "add_layer", sound, section_id: section() },
  );
}
function like(button) {
  const on = button.getAttribute("aria-pressed") !== "true";
  button.setAttribute("aria-pressed", String(on));
  button.closest(".pick").dataset.liked = String(on);
  htmx.ajax("POST", button.dataset.like, { source: button, swap: "none", values: { liked: on } });
}
document.getElementById("sounds")?.addEventListener("keydown", (event) => {
  const name = event.target.closest?.("[data-hear]");
  if (event.target.matches?.("[data-find]") && event.key === "ArrowDown") {
    event.preventDefault();
    shown()[0]?.querySelector("[data-hear]").focus();
    return;
  }
  if (!name) return;
  const pick = /** @type {HTMLElement} */ (name.closest(".pick")),
    list = shown(),
    at = list.indexOf(pick),
    row = pick.parentElement;
  const columns = Math.max(
    1,
    all(".pick", row).filter((p) => !p.hidden && p.offsetTop === all(".pick:not([hidden])", row)[0].offsetTop).length,
  );
  const go = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: columns, ArrowUp: -columns }[event.key];
  if (go) {
    event.preventDefault();
    const next = list[Math.max(0, Math.min(list.length - 1, at + go))];
    next.querySelector("[data-hear]").focus();
    next.scrollIntoView({ block: "nearest" });
  } else if (event.key === "Enter") {
    event.preventDefault();
    take(pick);
  } else if (event.key === " ") {
    event.preventDefault();
    hear(name.dataset.hear, pick);
  } else if (event.key === "*") like(pick.querySelector("[data-like]"));
});
