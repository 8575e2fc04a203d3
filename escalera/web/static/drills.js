// Drills by keys: digits answer, Space hears again, T taps, Enter goes on. Passages are played one after the other.
import { all } from "./dom.js";
import { hear, quiet } from "./hearing.js";

const form = () => document.getElementById("drill-answer"),
  address = (part) => `/drills/sound.wav?item=${encodeURIComponent(form()?.dataset.item ?? "")}&part=${part}`;
let taps = [],
  playing = 0,
  began = performance.now();

/** All passages, one after the other; another key stops them. */
async function hearAll() {
  const mine = ++playing,
    parts = Number(form()?.dataset.parts ?? 0);
  for (let part = 0; part < parts; part += 1) {
    if (mine !== playing) return;
    quiet(); // so that what sounds begins again instead of stopping
    hear(address(part), document.querySelector(`[data-part="${part}"]`));
    if (part + 1 < parts) await ended(address(part));
  }
}
/** When a passage is over: its length is asked of a copy that makes no sound. */
function ended(url) {
  return new Promise((resolve) => {
    const probe = new Audio(url);
    probe.addEventListener("loadedmetadata", () => setTimeout(resolve, 1000 * probe.duration + 350), { once: true });
    probe.addEventListener("error", () => resolve(null), { once: true });
  });
}
function tap() {
  const field = /** @type {HTMLInputElement | null} */ (document.querySelector("[data-taps]")),
    now = performance.now();
  if (!field) return;
  taps = taps.length && now - taps[taps.length - 1] > 2500 ? [now] : [...taps, now];
  const told = document.getElementById("tapped");
  if (taps.length > 3) {
    const gaps = taps.slice(1).map((t, i) => t - taps[i]),
      middle = gaps.sort((a, b) => a - b)[Math.floor(gaps.length / 2)];
    field.value = (60000 / middle).toFixed(1);
  }
  if (told) told.textContent = `${taps.length} taps`;
}
document.addEventListener("click", (event) => {
  const part = /** @type {HTMLElement | null} */ (/** @type {Element} */ (event.target).closest("[data-part]"));
  if (!part) return;
  playing += 1;
  hear(address(part.dataset.part), part);
});
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog:modal")) return;
  const target = /** @type {HTMLElement} */ (event.target),
    next = /** @type {HTMLElement | null} */ (document.querySelector("[data-next]")),
    digit = /** @type {HTMLElement | null} */ (
      document.querySelector(`#drill-answer [data-digit="${CSS.escape(event.key)}"]`)
    );
  if (event.key === "Enter" && next) next.click();
  else if (digit && !next) digit.click();
  else if (event.key === " " && !target.closest("a, summary")) hearAll();
  else if (event.key.toLowerCase() === "t" && document.querySelector("[data-taps]")) tap();
  else return;
  event.preventDefault();
  event.stopImmediatePropagation();
});
document.addEventListener("htmx:afterSettle", (event) => {
  const target = /** @type {HTMLElement} */ (event.target);
  if (target.id === "question") {
    taps = [];
    began = performance.now();
    /** @type {HTMLElement | null} */ (document.querySelector("#drill-answer input[name=answer]"))?.focus();
    hearAll();
  } else if (target.id === "drill-told") {
    playing += 1;
    quiet();
    /** @type {HTMLButtonElement} */ for (const button of all("#drill-answer [type=submit]"))
      button.setAttribute("disabled", "");
  }
});
setInterval(() => {
  const told = document.querySelector("[data-drill-left]"),
    left = Math.max(0, Number(form()?.dataset.left ?? 0) - (performance.now() - began) / 1000);
  if (told) told.textContent = `${Math.floor(left / 60)}:${String(Math.floor(left % 60)).padStart(2, "0")}`;
}, 500);
/** @type {HTMLElement | null} */ (document.querySelector("#drill-answer input[name=answer]"))?.focus();
