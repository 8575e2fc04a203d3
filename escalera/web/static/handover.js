// The page of export: a receiver ticks the parts of a pack that are usually theirs.
import { sendBeside } from "./arrivals.js";
import { byId } from "./dom.js";

byId("receiver").addEventListener("change", (event) => {
  const chosen = /** @type {HTMLSelectElement} */ (event.target).selectedOptions[0],
    parts = new Set(chosen.dataset.parts.split(" "));
  /** @type {HTMLInputElement} */ for (const box of document.querySelectorAll("[name=part]"))
    box.checked = parts.has(/** @type {HTMLInputElement} */ (box).value);
});

byId("returned-form").addEventListener("submit", async (event) => {
  event.preventDefault();
  const form = document.forms.namedItem("returned-form"),
    input = /** @type {HTMLInputElement} */ (form.elements.namedItem("file"));
  const beside = input.files.length ? await sendBeside(input.files) : 0;
  if (beside || !input.files.length)
    await htmx.ajax("POST", form.action, { target: "#came-back", values: beside ? { beside } : {} });
});
