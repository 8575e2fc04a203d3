// Where the focus stays when an answer replaces the element that had it: on the same control, or the nearest one that is left.
import { all } from "./dom.js";

const FOCUSABLE =
  "button:not([disabled]), a[href], input:not([type=hidden]):not([disabled]), select, textarea, summary, [tabindex]:not([tabindex='-1'])";
const NAMING = [
  "data-do",
  "data-select",
  "data-action",
  "data-tab",
  "data-edit",
  "data-lane",
  "data-take-chord",
  "name",
  "type",
  "href",
];

/** @param {Element} element */
function signOf(element) {
  const form = element.closest("form");
  const own = NAMING.map((name) => element.getAttribute(name) ?? "").join("|");
  return `${element.tagName}|${own}|${form?.getAttribute("data-edit") ?? ""}|${own.replaceAll("|", "") ? "" : element.textContent}`;
}
const shown = (element) => element.getClientRects().length > 0;

/** What must be known of the focused element to find it again: its own id or sign, and where it stood in its part of the page. */
export function placeOf(element) {
  const part = element.closest("[id]:not(button, input, select, textarea, form, details)");
  if (!part || element === document.body) return null;
  const controls = all(FOCUSABLE, part).filter(shown);
  return {
    id: element.id,
    sign: signOf(element),
    part: part.id,
    at: controls.indexOf(element),
    same: controls.filter((c) => signOf(c) === signOf(element)).indexOf(element),
  };
}
/** @param {{ id: string, sign: string, part: string, at: number, same: number }} place */
export function findAgain(place) {
  const own = place.id && document.getElementById(place.id);
  if (own && shown(own)) return own;
  const part = document.getElementById(place.part);
  if (!part) return null;
  const controls = all(FOCUSABLE, part).filter(shown),
    alike = controls.filter((c) => signOf(c) === place.sign);
  return (
    alike[Math.min(Math.max(place.same, 0), alike.length - 1)] ??
    controls[Math.min(Math.max(place.at, 0), controls.length - 1)] ??
    null
  );
}
export function keepFocus() {
  /** @type {{ page: any, dialog: any }} */
  const kept = { page: null, dialog: null };
  const slot = (element) => (element.closest?.("dialog") ? "dialog" : "page");
  const lost = () =>
    !document.activeElement || document.activeElement === document.body || document.activeElement.matches("dialog");
  function back() {
    if (!lost()) return;
    const place = kept[document.querySelector("dialog:modal") ? "dialog" : "page"];
    if (place) findAgain(place)?.focus({ preventScroll: true });
  }
  document.addEventListener("focusin", (event) => {
    kept[slot(event.target)] = placeOf(event.target);
  });
  // Left on purpose: by a click beside all controls, or by Escape.
  document.addEventListener("focusout", (event) => {
    const left = /** @type {Element} */ (event.target);
    setTimeout(() => {
      if (left.isConnected && lost()) kept[slot(left)] = null;
    });
  });
  document.addEventListener("close", () => setTimeout(back), true);
  document.addEventListener("htmx:afterSettle", back);
}
