// A set: steps taken back by keys, songs moved by the arrows, joins heard.
import "./hear_marked.js";
import { typing } from "./shell.js";

// a song that was moved keeps the focus, so that it can be moved on
let moved;
document.addEventListener("keydown", (event) => {
  const target = /** @type {HTMLElement} */ (event.target),
    key = event.key.toLowerCase();
  if ((event.ctrlKey || event.metaKey) && (key === "z" || key === "y") && !target.matches("input, textarea")) {
    const again = key === "y" || event.shiftKey;
    /** @type {HTMLElement | null} */ (document.querySelector(again ? "[data-set-redo]" : "[data-set-undo]"))?.click();
  } else if (event.altKey && (key === "arrowup" || key === "arrowdown")) {
    const row = /** @type {HTMLElement | null} */ (target.closest("[data-entry]"));
    if (!row) return;
    moved = row.dataset.entry;
    /** @type {HTMLElement | null} */ (row.querySelector(key === "arrowup" ? "[data-up]" : "[data-down]"))?.click();
  } else if (key === "o" && !typing(event) && !event.ctrlKey && !event.altKey && !event.metaKey)
    /** @type {HTMLElement | null} */ (document.querySelector("#orders-form button"))?.click();
  else return;
  event.preventDefault();
});
document.addEventListener("htmx:afterSettle", () => {
  if (!moved) return;
  /** @type {HTMLElement | null} */ (document.querySelector(`[data-entry="${moved}"] .set-title`))?.focus();
  moved = undefined;
});
