// Chosen before the first paint, so that the page does not flash.
const kept = localStorage.getItem("theme");
const evening = kept ? kept === "evening" : matchMedia("(prefers-color-scheme: dark)").matches;
document.documentElement.dataset.theme = evening ? "evening" : "day";
