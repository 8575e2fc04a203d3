// Edits of a song's page, one at a time: each carries the state that the one before it led to.
import { byId, fieldsOf } from "./dom.js";

export const state = () => fieldsOf(byId("state"));

export function pageQueue(root, path) {
  let queue = Promise.resolve(),
    wanted = "";
  const later = (act) => {
    queue = queue.then(act).catch(() => {});
    return queue;
  };
  return {
    after: later,
    post: (name, values = {}, source = root) =>
      later(() => {
        const { base, select } = state();
        return htmx.ajax("POST", `${path}/${name}`, { source, swap: "none", values: { base, select, ...values } });
      }),
    // In the same queue, so that an older answer never covers a newer one; of several waiting only the last is asked for.
    ask: (name, values, then = () => {}) => {
      const mine = (wanted = JSON.stringify(values));
      return later(() =>
        wanted === mine
          ? htmx.ajax("GET", `${path}/${name}`, { source: root, swap: "none", values }).then(then)
          : undefined,
      );
    },
  };
}
