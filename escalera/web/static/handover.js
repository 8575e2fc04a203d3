// The page of export: a receiver ticks the parts of a pack that are usually theirs.
import { byId } from "./dom.js";

byId("receiver").addEventListener("change", (event) => {
  const chosen = /** @type {HTMLSelectElement} */ (event.target).selectedOptions[0],
    parts = new Set(chosen.dataset.parts.split(" "));
  /** @type {HTMLInputElement} */ for (const box of document.querySelectorAll("[name=part]"))
    box.checked = parts.has(/** @type {HTMLInputElement} */ (box).value);
});
