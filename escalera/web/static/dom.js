// Finding elements and reading forms: what every script of a page needs.

/** @param {string} id */
export const byId = (id) => document.getElementById(id);

/**
 * @param {string} query
 * @param {Document | Element} [root]
 * @returns {HTMLElement[]}
 */
export const all = (query, root = document) =>
  [...root.querySelectorAll(query)].map((e) => /** @type {HTMLElement} */ (e));

/**
 * How well words fit a name and what else is said of it: 0 not at all, more is better. Exact and leading matches of the
 * name come first; a word may stand in the plural or the singular.
 * @param {string} asked
 * @param {string} name
 * @param {string} rest
 */
export function fit(asked, name, rest = "") {
  const words = asked.toLowerCase().split(/\s+/).filter(Boolean).map(single),
    own = name
      .toLowerCase()
      .split(/[^\p{L}\p{N}]+/u)
      .filter(Boolean)
      .map(single),
    all = [
      ...own,
      ...rest
        .toLowerCase()
        .split(/[^\p{L}\p{N}]+/u)
        .filter(Boolean)
        .map(single),
    ];
  if (!words.length) return 1;
  if (!words.every((w) => all.some((a) => a.includes(w)))) return 0;
  if (own.join(" ") === words.join(" ")) return 5;
  if (own.join(" ").startsWith(words.join(" "))) return 4;
  if (words.every((w) => own.some((a) => a.startsWith(w)))) return 3;
  return words.every((w) => own.some((a) => a.includes(w))) ? 2 : 1;
}
const single = (word) => (word.length > 3 && /[^su]s$/.test(word) ? word.slice(0, -1) : word);

/**
 * The fields of a form by name; of several with one name the last.
 * @param {Element} form
 * @returns {Record<string, any>}
 */
export const fieldsOf = (form) => Object.fromEntries(new FormData(/** @type {any} */ (form)));
