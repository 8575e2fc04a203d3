// What every page of a song does alike: clicks, forms and keys are given to what answers them, edits are read off buttons and forms;
// undo, redo, history, the keys that lead to the song's other pages, and where the focus goes after an answer.
import { fieldsOf } from "./dom.js";
import { keepFocus } from "./focus.js";
import { hear, quiet } from "./hearing.js";
import { typing } from "./shell.js";
import { restoreTabs } from "./tabs.js";

const STEPS = { ArrowLeft: -1, ArrowRight: 1 };
const OWN_ARROWS = "[role=tab], [role=slider], [data-peg], input, summary"; // what goes somewhere else by arrows
const PLACES = { g: "harmony", r: "groove", w: "bench", j: "joins", z: "samples", n: "voices" };

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
  // Links to the song's other pages lead to what is chosen now.
  document.addEventListener(
    "click",
    (event) => {
      const link = /** @type {HTMLElement} */ (event.target).closest?.("a[data-place]");
      if (link instanceof HTMLAnchorElement) link.search = `?select=${select()}`;
    },
    true,
  );
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
  // True when the key was one of history, of the other pages, or of listening.
  function key(event) {
    const name = event.key.toLowerCase();
    if (name === "h") actions.history();
    else if (event.key === "E") location.href = `/songs/${song}/handover?select=${select()}`;
    else if (event.key === '"') location.href = `/songs/${song}/feedback`;
    else if (event.key === "Z") go("bounces");
    else if (event.key === "B") go("balance");
    else if (PLACES[name]) go(PLACES[name]);
    else return rail.key(event);
    return true;
  }

  // One listener for each kind of event. `clicks`, `forms` and `changes` map a selector to what answers it, the first that fits;
  // what a page leaves to the common ones: buttons that are edits, forms that are edits, what chooses something.
  /** @param {Page} page */
  function listen({
    edit,
    choose,
    clicks = {},
    forms = {},
    changes = {},
    values = formValues,
    early = () => false,
    keys = {},
    fields = [],
    step = null,
    capture = true,
    settled = () => {},
  }) {
    const first = (table, event) => {
      for (const [query, act] of Object.entries(table)) {
        const hit = event.target.closest?.(query);
        if (hit) return () => act(hit, event);
      }
      return null;
    };
    const common = {
      "[data-do]": (button) => edit(JSON.parse(button.dataset.do)),
      // a slot that holds a slice is emptied, an empty one takes the slice that is picked
      "[data-slot]": (slot) => {
        const told = JSON.parse(slot.dataset.slot),
          picked = slot.closest(".slice-board").querySelector("[data-pick]").value;
        edit({ ...told, number: told.number < 0 ? picked : -1 });
      },
    };
    document.addEventListener("click", (event) => {
      const act = first(clicks, event) ?? first(common, event);
      if (act) return act();
      if (click(event)) return;
      const chosen = event.target.closest?.("[data-select]");
      if (chosen) choose(chosen.dataset.select, chosen);
    });
    document.addEventListener("submit", (event) => {
      const act = first({ ...forms, "[data-edit]": (form) => edit(values(form)) }, event);
      if (!act) return;
      event.preventDefault();
      act();
    });
    document.addEventListener("change", (event) => {
      const act = first(changes, event);
      if (act) act();
      else event.target.closest("form[data-auto]")?.requestSubmit();
    });
    document.addEventListener(
      "keydown",
      (event) => {
        if (event.key === "Escape" && fields.includes(event.target.id)) event.target.blur();
        else if (typing(event)) return;
        else if (early(event, "control")) return;
        else if (control(event)) return;
        else if (early(event, "plain")) {
          event.preventDefault();
          if (capture) event.stopImmediatePropagation();
        } else if (keys[event.key.toLowerCase()]) {
          event.preventDefault();
          keys[event.key.toLowerCase()](event);
        } else if (step && STEPS[event.key] && !event.target.closest?.(OWN_ARROWS)) {
          event.preventDefault();
          step(STEPS[event.key]);
        } else key(event);
      },
      capture,
    );
    keepFocus();
    document.addEventListener("htmx:afterSettle", () => {
      const fresh = rail.refresh();
      rail.names();
      restoreTabs();
      settled(fresh);
    });
    restoreTabs();
  }
  return { actions, listen, go };
}
/**
 * Chooses the section before or after the one that a selection names.
 * @param {string} selection
 * @param {number} by
 * @param {(text: string) => unknown} choose
 */
export function stepAlong(selection, by, choose) {
  const ids = JSON.parse(document.getElementById("manifest").textContent).sections.map((s) => s.id),
    at = ids.indexOf(Number(selection.split(":")[1])),
    next = ids[at + by];
  if (next && at >= 0) choose(`section:${next}:0:0:0`);
  else if (at < 0 && ids.length) choose(`section:${ids[0]}:0:0:0`);
}
const formValues = (form) => ({ kind: form.dataset.edit, ...fieldsOf(form) });

/**
 * @typedef {object} Page
 * @property {(values: object) => unknown} edit makes an edit
 * @property {(text: string, element: Element) => unknown} choose shows what was chosen
 * @property {Record<string, (element: any, event: any) => unknown>} [clicks]
 * @property {Record<string, (form: any, event: any) => unknown>} [forms]
 * @property {Record<string, (field: any, event: any) => unknown>} [changes]
 * @property {(form: any) => object} [values] what a form asks for
 * @property {(event: KeyboardEvent, pass: string) => boolean} [early] keys of the page's own parts; true when one was taken
 * @property {Record<string, (event: KeyboardEvent) => unknown>} [keys]
 * @property {string[]} [fields] text fields that Escape leaves
 * @property {null | ((by: number) => unknown)} [step] chooses the section before or after
 * @property {boolean} [capture] before what stands on the page
 * @property {(fresh: boolean) => unknown} [settled] after every answer; fresh where there is a new manifest
 */
