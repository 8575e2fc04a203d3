// The list of ideas on its own page: hearing what is parked.
import { hear } from "./hearing.js";

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-hear-idea]");
  if (button) hear(button.dataset.hearIdea, button);
});
