// The page of feedback: what was taken down leaves the field free for the next list.
import { byId } from "./dom.js";

byId("feedback-form").addEventListener("htmx:afterRequest", (event) => {
  if (/** @type {CustomEvent} */ (event).detail.successful) document.forms.namedItem("feedback-form").reset();
});
