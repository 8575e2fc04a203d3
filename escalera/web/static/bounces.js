// The page of bounces: a mix is brought in, laid over the song in the background, chosen, compared.
import { arrivals, bringKit } from "./arrivals.js";
import { byId, fieldsOf } from "./dom.js";
import { handrail } from "./handrail.js";
import { pageQueue } from "./queue.js";
import { songPage, stepAlong } from "./songpage.js";

const root = byId("bounces"),
  song = root.dataset.song,
  path = `/songs/${song}/bounces`;
const { post, ask } = pageQueue(root, path);
const field = (name) => /** @type {HTMLInputElement} */ (document.querySelector(`#state [name=${name}]`));
const here = () => Object.fromEntries(["select", "chosen", "against"].map((name) => [name, field(name).value]));
const show = (change = {}) => {
  for (const [name, value] of Object.entries(change)) field(name).value = value;
  return ask("show", here());
};
const { bring, watch } = arrivals(() => show(), { bounce_of: song });
const rail = handrail({ chosen: () => Number(field("select").value.split(":")[1]) });
const act = (name, values = {}) => post(name, { ...here(), ...values });

// A mix that is being laid over the song is asked after until it lies there.
let asking = 0;
function wait() {
  clearTimeout(asking);
  if (document.querySelector(".bringing")) asking = setTimeout(() => show(), 1500);
}
const page = songPage({ song, place: "bounces", post, rail, here, select: () => field("select").value });
page.listen({
  edit: (values) => post("edits", { ...here(), ...values }),
  choose: (text) => show({ select: text }),
  clicks: {
    "[data-choose-bounce]": (button) => show({ chosen: button.dataset.chooseBounce, against: "" }),
    "[data-against]": (button) => show({ against: button.dataset.against }),
    "[data-bounce-act]": (button) => act(button.dataset.bounceAct),
  },
  forms: { "[data-note]": (form) => act(`${form.dataset.note}/note`, fieldsOf(form)) },
  changes: {
    "#mix": (input) => bring(input.files).then(() => (input.value = "")),
    "#mix-stems": (input) => bringKit(input, () => show(), { bounce_of: song }),
  },
  step: (by) => stepAlong(field("select").value, by, (text) => show({ select: text })),
  settled: wait,
});
if (document.querySelector(".bringing")) watch();
wait();
