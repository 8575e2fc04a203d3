// Tabs: the chosen one is remembered over answers, by the tab list's name.
import { all } from "./dom.js";

const chosen = new Map();

export function restoreTabs() {
  for (const list of all("[role=tablist]")) {
    const tabs = all("[data-tab]", list),
      name = list.getAttribute("aria-label");
    const now = tabs.find((t) => t.dataset.tab === chosen.get(name)) ?? tabs[0];
    for (const tab of tabs) {
      const on = tab === now,
        panel = document.getElementById(tab.getAttribute("aria-controls"));
      tab.setAttribute("aria-selected", String(on));
      tab.tabIndex = on ? 0 : -1;
      if (panel) panel.hidden = !on;
    }
  }
}
export function showTab(name) {
  const tab = document.querySelector(`[role=tablist] [data-tab="${name}"]`);
  if (!tab) return;
  chosen.set(tab.closest("[role=tablist]").getAttribute("aria-label"), name);
  restoreTabs();
  const inspector = tab.closest("#inspector");
  if (inspector) inspector.scrollTop = 0;
}
document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-tab], [data-tab-go]");
  if (button) showTab(button.dataset.tab ?? button.dataset.tabGo);
});
document.addEventListener(
  "keydown",
  (event) => {
    const button = event.target.closest?.("[data-tab]");
    if (!button || !["ArrowLeft", "ArrowRight", "Home", "End"].includes(event.key)) return;
    const tabs = all("[data-tab]", button.parentElement),
      at = tabs.indexOf(button);
    const next =
      event.key === "Home"
        ? 0
        : event.key === "End"
          ? tabs.length - 1
          : (at + (event.key === "ArrowRight" ? 1 : -1) + tabs.length) % tabs.length;
    event.preventDefault();
    event.stopPropagation();
    showTab(tabs[next].dataset.tab);
    tabs[next].focus();
  },
  true,
);
