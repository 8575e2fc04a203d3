// Today: steps begun by digits, the timer held by the space bar, everything else with the mouse or Tab.
import { typing } from "./shell.js";

const press = (query) => /** @type {HTMLElement | null} */ (document.querySelector(query))?.click();
document.addEventListener("keydown", (event) => {
  if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
  const target = /** @type {Element} */ (event.target),
    key = event.key.toLowerCase();
  if (key >= "1" && key <= "9") press(`[data-begin="${key}"]`);
  else if (key === "s" || key === "f") press(`[name=mode][value=${key === "s" ? "start" : "finish"}]`);
  else if (key === "e") press(".running [value=done]");
  else if (key === "p") press("#prompts .prompt-card .btn-ink");
  else if (key === " " && document.querySelector(".running") && !target.closest("button, a, summary, input"))
    press(".running [value=pause], .running [value='go on']");
  else return;
  event.preventDefault();
});
