// Places that are marked to be heard by themselves: joins of a set, evidence of a task.
import { hear } from "./hearing.js";

document.addEventListener("click", (event) => {
  const button = /** @type {HTMLElement | null} */ (/** @type {Element} */ (event.target).closest("[data-hear-join]"));
  if (button) hear(button.dataset.hearJoin, button);
});
