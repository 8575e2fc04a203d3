// What every page of a song does alike: undo, redo, history, and the keys that lead to the song's other pages.
import { fieldsOf } from "./dom.js";
import { hear, quiet } from "./hearing.js";

const PLACES = { g: "harmony", r: "groove", w: "bench" };

// `here` gives the page's own state fields, `select` what is chosen, `rail` the handrail, `place` the page's name.
export function songPage({ song, place, post, rail, select, here = () => ({}) }) {
  const dialog = document.getElementById("history");
  dialog.addEventListener("close", quiet);
  const go = (name) => {
    location.href = `/songs/${song}${name === place ? "" : `/${name}`}?select=${select()}`;
  };
  const actions = {
    ...rail.actions,
    undo: () => post("undo", here()),
    redo: () => post("redo", here()),
    history: () =>
      htmx.ajax("GET", `/songs/${song}/history`, { target: "#history", swap: "innerHTML" }).then(() => {
        if (!dialog.open) dialog.showModal();
      }),
  };
  // True when the click was on one of these.
  function click(event) {
    const button = event.target.closest?.("[data-action], [data-state]");
    if (button?.dataset.state) {
      const { state, other } = button.dataset,
        why = other ? { other, ...fieldsOf(button.closest("form")) } : {};
      dialog.close();
      post(`states/${state}`, { ...here(), ...why });
      return true;
    }
    if (event.target.closest?.("#history") && versions(event.target)) return true;
    if (!button || !actions[button.dataset.action]) return false;
    actions[button.dataset.action]();
    return true;
  }
  // Versions in the history: compared with now, heard against it, also blind. True when the click was on one of these.
  function versions(target) {
    const { compare, hold, hearState, hearUrl, blind } = target.dataset,
      form = target.closest("form"),
      side = { target: "#history-side", swap: "innerHTML" };
    const states = form?.dataset.hearStates?.split(" "),
      section = form?.elements.section?.value;
    if ((hearState || hearUrl) && rail.player?.playing) rail.player.stop();
    if (hold) holdState(target);
    else if (compare) {
      const held = dialog.querySelector("[data-hold][aria-pressed=true]")?.dataset.hold,
        [from, to] = [compare, held].sort((a, b) => a - b);
      htmx.ajax("GET", `/songs/${song}/compare`, {
        ...side,
        values: held && held !== compare ? { from, to } : { from: compare },
      });
    } else if (hearState) hear(`/songs/${song}/hear/${states[hearState]}/${section}.wav`, target);
    else if (blind !== undefined)
      htmx.ajax("GET", `/songs/${song}/blind`, { ...side, values: { from: states[0], to: states[1], section } });
    else if (hearUrl) hear(hearUrl, target);
    else return false;
    return true;
  }
  // A state is held so that another one is compared with it instead of with now.
  function holdState(button) {
    const on = button.getAttribute("aria-pressed") !== "true",
      line = document.getElementById("held");
    for (const other of dialog.querySelectorAll("[data-hold]")) {
      other.setAttribute("aria-pressed", String(on && other.dataset.hold === button.dataset.hold));
      other.textContent = on && other === button ? "Pinned" : "Pin";
    }
    line.hidden = !on;
    line.textContent = on
      ? `Pinned: ${button.closest("li, .version-row").querySelector("span, b").textContent.trim()}. Compare another one with it.`
      : "";
  }
  // True when the key was Ctrl with another; undo and redo are done here.
  function control(event) {
    if (!(event.ctrlKey || event.metaKey || event.altKey)) return false;
    const key = event.key.toLowerCase();
    if (!event.altKey && (key === "z" || key === "y")) {
      event.preventDefault();
      actions[key === "y" || event.shiftKey ? "redo" : "undo"]();
    }
    return true;
  }
  // True when the key was one of history, of the other pages, or of listening. `without` lists letters the page needs itself.
  function key(event, without = "") {
    const name = event.key.toLowerCase();
    if (name === "h") actions.history();
    else if (PLACES[name] && !without.includes(name)) go(PLACES[name]);
    else return rail.key(event);
    return true;
  }
  return { actions, click, control, key, go };
}
