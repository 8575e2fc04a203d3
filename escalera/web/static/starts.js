// The page of a new song: starting loops found by words, heard before one is taken.
import { hear } from "./hearing.js";

const words = document.getElementById("loop-words"),
  loops = document.getElementById("loops");
let waiting = 0;
words.addEventListener("input", () => {
  clearTimeout(waiting);
  waiting = setTimeout(() => {
    const chosen = document.querySelector("[name=start]:checked")?.value ?? "";
    htmx.ajax("GET", "/new/loops", {
      target: loops,
      swap: "innerHTML",
      values: { words: words.value, school: document.getElementById("school").value, start: chosen },
    });
  }, 120);
});
// Enter in the search takes it no further: the song is created by its button.
words.addEventListener("keydown", (event) => {
  if (event.key === "Enter") event.preventDefault();
});
document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-hear-loop]");
  if (button) hear(button.dataset.hearLoop, button);
});
// Space on a loop hears it; the arrows go from one to the next and choose it, as in any row of choices.
loops.addEventListener("keydown", (event) => {
  const button = event.key === " " && event.target.closest(".loop")?.querySelector("[data-hear-loop]");
  if (!button || event.target === button) return;
  event.preventDefault();
  event.target.checked = true;
  hear(button.dataset.hearLoop, button);
});
// What the chosen style, form and layout mean is said below them: the choices have no room for it.
for (const choice of document.querySelectorAll("select[aria-describedby]")) {
  const said = document.getElementById(choice.getAttribute("aria-describedby")),
    say = () => {
      said.textContent = choice.selectedOptions[0].dataset.said;
    };
  choice.addEventListener("change", say);
  say();
}
