// The page of import: what is too large for one request goes in pieces first.
import { sendBeside } from "./arrivals.js";
import { byId } from "./dom.js";

const ONE_REQUEST_BYTES = 8_000_000;

byId("import-form").addEventListener("submit", async (event) => {
  const form = document.forms.namedItem("import-form"),
    input = /** @type {HTMLInputElement} */ (form.elements.namedItem("file"));
  if (!input.files.length || input.files[0].size < ONE_REQUEST_BYTES) return;
  event.preventDefault();
  const beside = await sendBeside(input.files);
  if (!beside) return;
  const told = document.createElement("input");
  told.type = "hidden";
  told.name = "beside";
  told.value = String(beside);
  input.disabled = true;
  form.append(told);
  form.submit();
});
