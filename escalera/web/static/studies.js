// The list of studies: tracks are brought in and read in the background.
import { arrivals, bringKit } from "./arrivals.js";
import { byId } from "./dom.js";

const root = byId("studies");
const refresh = () => htmx.ajax("GET", "/studies/list", { target: "#study-list", swap: "outerHTML" });
const { bring, dropped, watch } = arrivals(refresh, { study: 1 });

byId("track").addEventListener("change", async (event) => {
  const input = /** @type {HTMLInputElement} */ (event.target);
  await bring(input.files);
  input.value = "";
});
byId("stems").addEventListener("change", (event) => {
  const tempo = Number(byId("kit-tempo").value.replace(",", ".") || 0);
  bringKit(/** @type {HTMLInputElement} */ (event.target), refresh, { kit_tempo: Math.round(100 * tempo) });
});
root.addEventListener("dragover", (event) => event.preventDefault());
root.addEventListener("drop", (event) => {
  event.preventDefault();
  dropped(event.dataTransfer.items);
});
root.addEventListener("click", async (event) => {
  const button = /** @type {HTMLElement} */ (event.target).closest("[data-made-up], [data-made-up-kit]");
  if (!(button instanceof HTMLElement)) return;
  const what = button.dataset.madeUp === undefined ? "made-up-kit" : `made-up/${button.dataset.madeUp}`;
  await htmx.ajax("POST", `/studies/${what}`, { target: "#study-list", swap: "outerHTML" });
});
// Asked after at an even pace, whatever became of the answer before.
setInterval(() => document.querySelector(".bringing") && refresh(), 1500);
if (document.querySelector(".bringing")) watch();
