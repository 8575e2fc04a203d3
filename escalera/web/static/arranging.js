// Arranging on the stair: moves looked at before they are made, the form as text, ranges of tiles, a section's tiles copied.
import { fieldsOf } from "./dom.js";
import { hear, quiet } from "./hearing.js";
import { say } from "./shell.js";

const $ = (id) => document.getElementById(id),
  dialog = () => $("arranging");
let song = 0,
  /** @type {(values: object) => unknown} */
  edit = () => {},
  chosen = () => 0,
  /** @type {(act: () => unknown) => unknown} */
  after = () => {},
  looked = 0;
export function arranging(act) {
  ({ song, edit, chosen, after } = act);
  dialog().addEventListener("close", quiet);
}

// Keys wait while a dialog is on its way, so that none opens later over another.
export const openDialog = (address, values = {}) => {
  if (document.body.dataset.opening) return Promise.resolve();
  document.body.dataset.opening = address;
  return htmx
    .ajax("GET", `/songs/${song}/${address}`, { target: "#arranging", swap: "innerHTML", values })
    .then(() => {
      if (!dialog().open && dialog().childElementCount) dialog().showModal();
    })
    .finally(() => delete document.body.dataset.opening);
};
export const openMoves = (section = chosen()) => {
  if (Number(section)) openDialog("moves", { section });
  else say("Choose a section first: its moves depend on what it plays.");
};
export const openForm = () => openDialog("form");
export const openLayout = (section = 0) => openDialog("layout", Number(section) ? { section } : {}).then(layOut);
// Each way comes by itself, so that the first can be looked at while the others are worked out.
let layouts = 0;
async function layOut() {
  const wishes = fieldsOf($("layout-wishes")),
    mine = ++layouts;
  for (const way of ways()) {
    if (mine !== layouts || !way.isConnected) return;
    const address = `/songs/${song}/layout/${way.dataset.stance}`;
    await htmx.ajax("GET", address, { target: way, swap: "innerHTML", values: wishes });
  }
}
const ways = () => [...document.querySelectorAll(".layout-way")];
function chooseWay(way) {
  for (const other of ways()) other.classList.toggle("chosen", other === way);
  way?.focus({ preventScroll: true });
}
function hearWay(way) {
  const button = way?.querySelector("[data-layout-hear]");
  if (button) hear(way.querySelector("[data-layout-heard]").value, button);
}
export const openIdeas = (section) => {
  document.getElementById("history").close();
  return openDialog("ideas", Number(section) ? { section } : {});
};
export const openChecks = (section) => {
  looked = Number(section);
  return openDialog("checks", looked ? { section } : {});
};
// Once the edit of this very event is answered: the dialog anew, or, when it was refused, the reason beside what was typed.
export const again = (reopen) =>
  setTimeout(() =>
    after(() => {
      const notice = $("notice"),
        place = dialog().querySelector(".trouble");
      if (!notice.matches(".show.error") || !place) return reopen();
      place.textContent = notice.querySelector("p").textContent;
    }),
  );
export const openBrief = () => openDialog("checks/brief"),
  briefAgain = () => again(openBrief);
const checksAgain = () => again(() => openChecks(looked));

let wanted = "";
function look(section, move, target = "#move-preview", from = null) {
  wanted = move;
  htmx
    .ajax("GET", `/songs/${song}/moves/preview`, { target, swap: "innerHTML", values: { section, move } })
    .then(() => {
      if (wanted === move) {
        mark(move);
        if (from) {
          from.focus({ preventScroll: true });
          $("move-preview").scrollTop = 0;
        } else document.querySelector("#mend-preview .btn-ink")?.scrollIntoView({ block: "nearest" });
      }
    });
}
function mark(move) {
  for (const row of document.querySelectorAll("[data-move]")) row.classList.toggle("chosen", row.dataset.move === move);
}
let waiting = null;
function readForm() {
  clearTimeout(waiting);
  waiting = setTimeout(
    () =>
      htmx.ajax("GET", `/songs/${song}/form/preview`, {
        target: "#form-preview",
        swap: "innerHTML",
        values: fieldsOf($("form-edit")),
      }),
    150,
  );
}
document.addEventListener("click", (event) => {
  const hit = (query) => event.target.closest?.(query);
  if (hit("[data-moves]")) openMoves(Number(hit("[data-moves]").dataset.moves));
  else if (hit("[data-form]")) openForm();
  else if (hit("[data-layout]")) openLayout(Number(hit("[data-layout]").dataset.layout));
  else if (hit("[data-layout-hear]")) hearWay(hit(".layout-way"));
  else if (hit("[data-checks]")) openChecks(hit("[data-checks]").dataset.checks);
  else if (hit("[data-finding]")) {
    const row = hit("[data-finding]");
    for (const other of document.querySelectorAll("[data-finding]")) other.classList.toggle("chosen", other === row);
    htmx
      .ajax("GET", `/songs/${song}/checks/finding`, {
        target: "#move-preview",
        swap: "innerHTML",
        values: { key: row.dataset.finding },
      })
      .then(() => {
        const best = document.querySelector("#move-preview .move-row[data-move]"); // looked at without being asked for
        if (best && row.classList.contains("chosen"))
          look(best.dataset.section, best.dataset.move, best.dataset.target, row);
      });
  } else if (hit("[data-move]")) {
    const { section, move, target } = hit("[data-move]").dataset,
      ready = document.querySelector("#move-preview [data-do]");
    if (event.detail === 0 && wanted === move && ready)
      ready.click(); // Enter looks, Enter again does
    else look(section, move, target);
  }
  if (hit("[data-brief]")) openBrief();
  else if (hit("[data-keep-idea]"))
    htmx.ajax("POST", `/songs/${song}/ideas`, {
      swap: "none",
      values: JSON.parse(hit("[data-keep-idea]").dataset.keepIdea),
    });
  else if (hit("[data-ideas-again]")) {
    const { ideasAgain } = hit("[data-ideas-again]").dataset;
    again(() => openIdeas(ideasAgain));
  } else if (hit("[data-ideas]")) openIdeas(hit("[data-ideas]").dataset.ideas);
  else if (hit("[data-hear-idea]")) hear(hit("[data-hear-idea]").dataset.hearIdea, hit("[data-hear-idea]"));
  if (hit("#arranging button[data-brief-again]")) briefAgain();
  else if (hit("#arranging button[data-stays], #mend-preview [data-do]")) checksAgain();
  else if (hit("#arranging button[data-closes]")) dialog().close();
});
document.addEventListener("submit", (event) => {
  if (event.target.matches?.("#brief")) briefAgain();
  else if (event.target.matches?.("#arranging form[data-stays]")) checksAgain();
  else if (event.target.matches?.("#form-edit")) dialog().close();
});
document.addEventListener("input", (event) => {
  if (event.target.closest?.("#form-edit")) readForm();
});
document.addEventListener("keydown", (event) => {
  if (!dialog()?.open || !ways().length || event.ctrlKey || event.altKey || event.metaKey) return;
  const own = event.target.closest?.("button, a, summary, input, select, label"),
    way = ways()[Number(event.key) - 1] ?? null;
  if (way) chooseWay(way);
  else if (own) return;
  else if (event.key === " ") hearWay(document.querySelector(".layout-way.chosen"));
  else if (event.key === "Enter") document.querySelector(".layout-way.chosen [data-do]")?.click();
  else return;
  event.preventDefault();
});
document.addEventListener("change", (event) => {
  const { target } = event;
  if (target.closest?.("#layout-wishes")) layOut();
  if (target.dataset?.moveChoice !== undefined) {
    target.closest(".move-kind").querySelector("[data-move]").dataset.move = target.value;
    look(target.dataset.section, target.value);
  }
  if (target.id === "form-library" && target.value) {
    $("form-text").value = target.value;
    readForm();
  }
  if (target.id === "form-other" && target.value)
    htmx.ajax("GET", `/songs/${song}/form/compare`, {
      target: "#form-compare",
      swap: "innerHTML",
      values: { text: target.value },
    });
});

// ranges of tiles: Shift with arrows or the mouse marks, Space sets or lifts all of them, F fills the row of the section ---------
let anchor = null,
  marked = [],
  copied = 0;
const rows = () => [...document.querySelectorAll(".wall-tiles")].map((row) => [...row.children]);
const cell = (tile) => tile.dataset.tile.split(":").map(Number);
function place(tile) {
  const all = rows(),
    r = all.findIndex((row) => row.includes(tile));
  return [r, all[r].indexOf(tile)];
}
export function clearRange() {
  for (const tile of document.querySelectorAll(".tile.marked")) tile.classList.remove("marked");
  marked = [];
  anchor = null;
}
export function extend(from, to) {
  anchor ??= cell(from).join(":");
  const start = document.querySelector(`[data-tile="${anchor}"]`) ?? from,
    [r1, c1] = place(start),
    [r2, c2] = place(to),
    all = rows();
  for (const tile of document.querySelectorAll(".tile.marked")) tile.classList.remove("marked");
  marked = all
    .slice(Math.min(r1, r2), Math.max(r1, r2) + 1)
    .flatMap((row) => row.slice(Math.min(c1, c2), Math.max(c1, c2) + 1));
  for (const tile of marked) tile.classList.add("marked");
}
function setTiles(tiles) {
  const sounding = tiles.some((t) => t.classList.contains("empty"));
  edit({ kind: "set_tiles", cells: JSON.stringify(tiles.map(cell)), sounding });
  clearRange();
}
// True when the key was a gesture on tiles.
export function tileGesture(event, tile) {
  const key = event.key.toLowerCase(),
    [section] = cell(tile);
  if (event.shiftKey && event.key.startsWith("Arrow")) {
    const all = rows(),
      [r, c] = place(tile),
      next = {
        ArrowLeft: all[r][c - 1],
        ArrowRight: all[r][c + 1],
        ArrowUp: all[r - 1]?.[c],
        ArrowDown: all[r + 1]?.[c],
      }[event.key];
    if (next) {
      extend(tile, next);
      next.focus();
    }
    return true;
  }
  if (event.key === " " && marked.length > 1) {
    setTiles(marked);
    return true;
  }
  if (key === "f" && !event.ctrlKey) {
    setTiles(
      tile.parentElement.querySelectorAll
        ? [...tile.parentElement.children].filter((t) => cell(t)[0] === section)
        : [tile],
    );
    return true;
  }
  if (event.key === "Escape" && marked.length) {
    clearRange();
    return true;
  }
  return false;
}
// Ctrl C and Ctrl V: what a section plays, into another.
export function copyKey(event, section) {
  const key = event.key.toLowerCase();
  if (!(event.ctrlKey || event.metaKey) || event.altKey || !section || (key !== "c" && key !== "v")) return false;
  if (String(getSelection() ?? "")) return false;
  if (key === "c") {
    copied = section;
    say("The section's tiles are copied. Choose another section and press Ctrl V.", "calm");
  } else if (copied) edit({ kind: "copy_tiles", from_id: copied, to_id: section });
  else say("Nothing was copied yet. Choose a section and press Ctrl C first.");
  event.preventDefault();
  return true;
}
