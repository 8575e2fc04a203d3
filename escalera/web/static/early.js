// The page is seen before its scripts stand: keys and buttons pressed until then wait for them, so that none is lost.
const early = [],
  own = "input, select, textarea, a, summary, button";
function keep(event) {
  const { target } = event,
    key = event.type === "keydown";
  if (key && (target.closest?.(own) || event.key === "Tab" || event.ctrlKey || event.metaKey || event.altKey)) return;
  if (!key && !target.closest?.("button[type=button]")) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  early.push(
    key ? () => document.activeElement.dispatchEvent(new KeyboardEvent("keydown", event)) : () => target.click(),
  );
}
for (const kind of ["keydown", "click"]) addEventListener(kind, keep, true);
document.addEventListener("DOMContentLoaded", () => {
  for (const kind of ["keydown", "click"]) removeEventListener(kind, keep, true);
  for (const act of early) act();
});
// An answer may exchange what is pressed between the press and the release; the press counts all the same.
const pressable = "a[href], button, summary, [role=button]",
  named = (it) => `${it.tagName} ${it.getAttribute("href")} ${JSON.stringify(it.dataset)} ${it.textContent.trim()}`;
let pressed = null;
addEventListener(
  "pointerdown",
  ({ target, button }) => {
    const it = button ? null : target.closest?.(pressable);
    pressed = it && { it, name: named(it) };
  },
  true,
);
addEventListener(
  "pointerup",
  ({ clientX, clientY }) => {
    const was = pressed;
    pressed = null;
    if (!was || was.it.isConnected) return;
    const now = document.elementFromPoint(clientX, clientY)?.closest(pressable);
    if (now && named(now) === was.name) now.click();
  },
  true,
);
