// Drum lanes of the bench: a click sets or takes a hit, a drag changes its velocity; arrows and Space do the same.
const STEPS = { "1/4": 960, "1/8": 480, "1/16": 240, "1/32": 120, "1/8 triplet": 320, "1/16 triplet": 160 };

export function lanes({ edit, field }) {
  const plot = () => document.getElementById("lanes"),
    rows = () => JSON.parse(document.getElementById("lane-facts").textContent);
  const length = () => Number(document.getElementById("plot")?.dataset.length ?? plot().dataset.length),
    step = () => STEPS[field("steps").value] ?? 240;
  const dotAt = (drum, tick) => document.querySelector(`.lane-hit[data-drum="${drum}"][data-tick="${tick}"]`);
  let cursor = null,
    held = null,
    velocity = 100;
  const set = (drum, tick, value) => edit({ kind: "hit", drum, tick, velocity: value });
  function placeOf(event) {
    const box = plot().getBoundingClientRect(),
      share = Math.max(0, Math.min(0.9999, (event.clientX - box.left) / box.width)),
      y = event.clientY - box.top;
    const [drum] = rows().reduce((best, row) => (Math.abs(row[2] - y) < Math.abs(best[2] - y) ? row : best));
    return { drum, tick: (Math.round((share * length()) / step()) * step()) % length() };
  }
  document.addEventListener("pointerdown", (event) => {
    if (!event.target.closest?.("#lanes") || event.button || !rows().length) return;
    event.preventDefault();
    plot().focus({ preventScroll: true });
    hide();
    const dot = event.target.closest(".lane-hit");
    if (dot) {
      held = {
        dot,
        y: event.clientY,
        from: Number(dot.dataset.velocity),
        now: Number(dot.dataset.velocity),
        moved: false,
      };
      return;
    }
    const at = placeOf(event);
    set(at.drum, at.tick, dotAt(at.drum, at.tick) ? 0 : event.shiftKey ? 45 : velocity);
  });
  document.addEventListener("pointermove", (event) => {
    if (!held) return;
    const by = held.y - event.clientY;
    if (Math.abs(by) > 3) held.moved = true;
    held.now = Math.max(1, Math.min(127, Math.round(held.from + by * 1.3)));
    if (held.moved) held.dot.setAttribute("r", (6.4 * (0.3 + 0.7 * (held.now / 127) ** 0.8)).toFixed(1));
  });
  document.addEventListener("pointerup", () => {
    if (!held) return;
    const { dot, moved, now } = held;
    held = null;
    if (moved) velocity = now;
    set(dot.dataset.drum, Number(dot.dataset.tick), moved ? now : 0);
  });
  const hide = () => {
    const mark = document.getElementById("lane-cursor");
    if (mark) mark.hidden = true;
  };
  function showCursor() {
    const list = rows(),
      mark = document.getElementById("lane-cursor");
    if (!list.length || !mark) return;
    cursor ??= { drum: list.at(-1)[0], tick: 0 };
    const lane = list.find(([drum]) => drum === cursor.drum) ?? list.at(-1);
    cursor.drum = lane[0];
    cursor.tick %= length();
    mark.hidden = false;
    mark.style.left = `${(100 * cursor.tick) / length()}%`;
    mark.style.top = `${lane[2]}px`;
  }
  const keys = {
    ArrowRight: () => {
      cursor.tick = (cursor.tick + step()) % length();
    },
    ArrowLeft: () => {
      cursor.tick = (cursor.tick - step() + length()) % length();
    },
    ArrowUp: () => move(-1),
    ArrowDown: () => move(1),
    Home: () => {
      cursor.tick = 0;
    },
    " ": () => set(cursor.drum, cursor.tick, dotAt(cursor.drum, cursor.tick) ? 0 : velocity),
    Enter: () => keys[" "](),
    "+": () => louder(12),
    "-": () => louder(-12),
  };
  function move(by) {
    const list = rows().map(([drum]) => drum);
    cursor.drum = list[Math.max(0, Math.min(list.length - 1, list.indexOf(cursor.drum) + by))];
  }
  function louder(by) {
    const dot = dotAt(cursor.drum, cursor.tick);
    if (dot) set(cursor.drum, cursor.tick, Math.max(1, Math.min(127, Number(dot.dataset.velocity) + by)));
  }
  // True when the key was one of the lanes'.
  function onKey(event) {
    if (event.target.id !== "lanes" || !keys[event.key] || !rows().length) return false;
    if (!cursor) showCursor();
    keys[event.key]();
    showCursor();
    return true;
  }
  document.addEventListener("focusin", (event) => {
    if (event.target.id === "lanes" && event.target.matches(":focus-visible")) showCursor();
  });
  document.addEventListener("focusout", (event) => {
    if (event.target.id === "lanes") hide();
  });
  return { key: onKey, showCursor, refresh: () => {} };
}
