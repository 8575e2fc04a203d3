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
 * The fields of a form by name; of several with one name the last.
 * @param {Element} form
 * @returns {Record<string, any>}
 */
export const fieldsOf = (form) => Object.fromEntries(new FormData(/** @type {any} */ (form)));
