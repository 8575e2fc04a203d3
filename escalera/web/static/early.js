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
