// Everywhere: theme, help, notices, requests with the page's token, quick keys.
const token = document.querySelector("meta[name=csrf-token]").content;
document.addEventListener("htmx:configRequest", (event) => {
  event.detail.headers["X-CSRFToken"] = token;
});
document.addEventListener("htmx:sendError", () =>
  say("The program does not answer. Check that it is still running; nothing was lost, your last change was not made."),
);

export function say(message, kind = "error") {
  const notice = document.getElementById("notice");
  notice.className = `notice show ${kind}`;
  notice.setAttribute("role", kind === "error" ? "alert" : "status");
  const text = document.createElement("p");
  text.textContent = message;
  const close = Object.assign(document.createElement("button"), {
    type: "button",
    className: "btn-quiet",
    textContent: "Close",
  });
  close.dataset.action = "dismiss";
  notice.replaceChildren(text, close);
  raise(notice);
}
// In the top layer, so that it is seen over a dialog too.
function raise(notice) {
  if (!notice.matches(".show")) {
    notice.popover = null;
    return;
  }
  notice.popover = "manual";
  if (notice.matches(":popover-open")) notice.hidePopover(); // above a dialog that was opened since
  notice.showPopover();
}
let raised = null; // settling gives a swapped element its own attributes back, so it is raised after that
document.addEventListener("htmx:afterSettle", () => {
  const notice = document.getElementById("notice");
  if (notice !== raised) raise((raised = notice));
});

function label() {
  const evening = document.documentElement.dataset.theme === "evening";
  for (const button of document.querySelectorAll("[data-action=theme]"))
    button.textContent = evening ? "Light" : "Dark";
}

function theme() {
  const next = document.documentElement.dataset.theme === "evening" ? "day" : "evening";
  document.documentElement.dataset.theme = next;
  localStorage.setItem("theme", next);
  label();
}

// An idea in words, from any page: where one stood is kept with it.
function jot() {
  const form = document.getElementById("jot-form"),
    words = (query) => document.querySelector(query)?.textContent.trim();
  form.elements.source.value = [words(".song-title"), words("#inspector h2")].filter(Boolean).join(", ").slice(0, 200);
  document.getElementById("jot").showModal();
  form.elements.text.focus();
}
document.getElementById("jot-form").addEventListener("keydown", (event) => {
  if (event.key === "Enter" && !event.shiftKey && event.target.name === "text") {
    event.preventDefault();
    event.currentTarget.requestSubmit();
  }
});
document.addEventListener("htmx:afterOnLoad", (event) => {
  const form = event.target;
  if (form.id !== "jot-form") return;
  form.querySelector(".trouble").textContent = event.detail.successful
    ? ""
    : (document.querySelector("#notice p")?.textContent ?? "");
  if (!event.detail.successful) return; // what was written stays
  form.reset();
  document.getElementById("jot").close();
});

const actions = {
  theme,
  help: () => document.getElementById("help").showModal(),
  jot,
  "jot-end": () => document.getElementById("jot").close(),
  dismiss: () => {
    const notice = document.getElementById("notice");
    notice.className = "notice";
    notice.replaceChildren();
    raise(notice);
  },
};

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-action]");
  if (button && actions[button.dataset.action]) actions[button.dataset.action]();
});
document.addEventListener("submit", (event) => {
  const question = event.target.dataset.confirm;
  if (question && !window.confirm(question)) event.preventDefault();
});
export const typing = (event) =>
  event.target.matches("input:not([type=range]):not([type=checkbox]), select, textarea, [contenteditable]") ||
  document.querySelector("dialog:modal") ||
  document.body.dataset.opening;
document.addEventListener("keydown", (event) => {
  if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "?") actions.help();
  else if (event.key === "d" || event.key === "D") theme();
  else if (event.key === "y" || event.key === "Y") {
    event.preventDefault();
    jot();
  } else if (event.key === "n" || event.key === "N") document.getElementById("quick-new")?.requestSubmit();
  else if (event.key === "Escape") actions.dismiss();
});
document.addEventListener("htmx:afterSettle", () => {
  const ready = document.querySelector("[data-autosave]");
  if (ready) {
    delete ready.dataset.autosave;
    ready.click();
  }
});
document.addEventListener("htmx:afterSettle", label);
label();
// What a page asks for by itself, again and again, waits while one writes in what its answer would replace.
document.addEventListener("htmx:beforeSwap", (event) => {
  const { target, requestConfig } = event.detail,
    asking = requestConfig.elt;
  if (!asking.matches("[hx-trigger^=load]") || !target.querySelector("input:focus, textarea:focus")) return;
  event.detail.shouldSwap = false;
  setTimeout(() => {
    if (!asking.isConnected) return;
    const again = asking.cloneNode(true);
    asking.replaceWith(again);
    htmx.process(again);
  }, 1000);
});
