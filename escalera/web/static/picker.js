// The sound picker: sounds heard, found, marked as favourites and taken, by hand and keys.
import { all } from "./dom.js";
import { hear, quiet } from "./hearing.js";

/** @type {(values: object) => unknown} */
let edit = () => undefined;
// `act` makes the edit of what is taken.
export function picker(act) {
  edit = act;
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
  htmx.ajax("GET", url, { target: "#sounds", swap: "innerHTML" }).then(() => {
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
    words = dialog.querySelector("[data-find]").value.toLowerCase().split(/\s+/).filter(Boolean);
  const job = dialog.querySelector("[data-find-job]").value,
    liked = dialog.querySelector("[data-find-liked]").checked;
  for (const p of all(".pick", dialog))
    p.hidden =
      !words.every((w) => p.dataset.words.includes(w)) ||
      (job && p.dataset.job !== job) ||
      (liked && p.dataset.liked !== "true");
  for (const f of all(".picker-family", dialog)) f.hidden = !f.querySelector(".pick:not([hidden])");
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
        : { kind: "add_layer", sound },
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
