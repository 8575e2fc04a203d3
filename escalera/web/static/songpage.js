// What every page of a song does alike: undo, redo, history, and the keys that lead to the song's other pages.
const PLACES = { g: "harmony", r: "groove", w: "bench" };

// `here` gives the page's own state fields, `select` what is chosen, `rail` the handrail, `place` the page's name.
export function songPage({ song, place, post, rail, select, here = () => ({}) }) {
  const dialog = document.getElementById("history");
  const go = (name) => { location.href = `/songs/${song}${name === place ? "" : `/${name}`}?select=${select()}`; };
  const actions = {
    ...rail.actions,
    undo: () => post("undo", here()), redo: () => post("redo", here()),
    history: () => htmx.ajax("GET", `/songs/${song}/history`, { target: "#history", swap: "innerHTML" }).then(() => dialog.showModal()),
  };
  // True when the click was on one of these.
  function click(event) {
    const button = event.target.closest?.("[data-action], [data-state]");
    if (button?.dataset.state) { dialog.close(); post(`states/${button.dataset.state}`, here()); return true; }
    if (!button || !actions[button.dataset.action]) return false;
    actions[button.dataset.action]();
    return true;
  }
  // True when the key was Ctrl with another; undo and redo are done here.
  function control(event) {
    if (!(event.ctrlKey || event.metaKey || event.altKey)) return false;
    const key = event.key.toLowerCase();
    if (!event.altKey && (key === "z" || key === "y")) { event.preventDefault(); actions[key === "y" || event.shiftKey ? "redo" : "undo"](); }
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
