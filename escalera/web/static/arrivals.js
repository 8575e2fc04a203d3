// Files on their way into the library: sent in numbered pieces one after the other, gone on with where a transfer broke off,
// and asked about while they are read.
import { say } from "./shell.js";

const TRIES = 5;
const token = () => /** @type {HTMLMetaElement} */ (document.querySelector("meta[name=csrf-token]")).content;
const post = (url, body) => fetch(url, { method: "POST", body, headers: { "X-CSRFToken": token() } });
const wait = (ms) => new Promise((done) => setTimeout(done, ms));

// `changed` is called when something new may be shown.
// `more` is said of every file that is announced.
export function arrivals(changed, more = {}) {
  let asking = false,
    seen = "";
  async function send(file) {
    const form = new FormData();
    form.set("name", file.name);
    form.set("size", String(file.size));
    for (const [name, value] of Object.entries(more)) form.set(name, String(value));
    const begun = await post("/samples/arrivals", form),
      told = await begun.json();
    if (!begun.ok) throw new Error(told.trouble ?? "");
    const count = Math.ceil(file.size / told.piece_bytes);
    for (let number = 0, tries = 0; number < count; ) {
      const piece = file.slice(number * told.piece_bytes, (number + 1) * told.piece_bytes);
      try {
        const answer = await post(`/samples/arrivals/${told.token}/${number}`, piece);
        if (!answer.ok) throw new Error("piece");
        number += 1;
        tries = 0;
      } catch (error) {
        tries += 1;
        if (tries > TRIES) throw error;
        await wait(400 * tries);
        const came = await fetch(`/samples/arrivals/${told.token}`).catch(() => null);
        if (came?.ok) number = (await came.json()).pieces;
      }
    }
  }
  async function bring(files) {
    const list = [...files].filter((file) => file.size && !file.name.startsWith("."));
    if (!list.length) return 0;
    let sent = 0;
    const refused = [];
    for (const file of list) {
      try {
        await send(file);
        sent += 1;
      } catch (error) {
        refused.push(error.message || `${file.name} could not be sent.`);
      }
      if (list.length > 3) say(`${sent} of ${list.length} sent`, "calm");
      watch();
    }
    if (refused.length)
      say(refused.slice(0, 3).join(" ") + (refused.length > 3 ? ` And ${refused.length - 3} more.` : ""));
    watch();
    return sent;
  }
  async function watch() {
    if (asking) return;
    asking = true;
    for (;;) {
      const answer = await fetch("/samples/arrivals").catch(() => null);
      if (!answer?.ok) break;
      const now = await answer.json(),
        text = JSON.stringify([
          Math.floor(now.count / 8),
          Math.floor(now.read / 8),
          now.waiting > 0,
          now.making === null,
        ]);
      const line = document.getElementById("bringing-said");
      if (line && now.making !== null) line.textContent = `The program’s own samples are being made: ${now.making} %`;
      else if (line) line.textContent = `${now.waiting} to be read`;
      if (text !== seen) {
        seen = text;
        await changed();
      }
      if (!now.waiting && !now.reading && now.making === null) break;
      await wait(900);
    }
    asking = false;
  }
  // Files that were dropped, those of folders among them.
  async function dropped(items) {
    const found = [];
    const walk = async (entry) => {
      if (entry.isFile) found.push(await new Promise((done, fail) => entry.file(done, fail)));
      else if (entry.isDirectory) {
        const reader = entry.createReader();
        for (;;) {
          const some = await new Promise((done, fail) => reader.readEntries(done, fail));
          if (!some.length) break;
          for (const each of some) await walk(each);
        }
      }
    };
    const entries = [...items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean);
    for (const entry of entries) await walk(entry);
    return bring(found);
  }
  return { bring, dropped, watch };
}

// Stems belong together: they are announced as one kit, which is laid (or added up) when all have come.
/** @param {HTMLInputElement} input */
export async function bringKit(input, changed, more) {
  const files = [...input.files],
    kit = 1 + Math.floor(Math.random() * 9e8);
  if (!files.length) return;
  const sent = await arrivals(changed, { ...more, kit, kit_size: files.length }).bring(files);
  input.value = "";
  const values = { size: sent, tempo_bpm: (more.kit_tempo ?? 0) / 100, bounce_of: more.bounce_of ?? 0 };
  if (sent && sent < files.length) await htmx.ajax("POST", `/studies/kits/${kit}/lay`, { swap: "none", values });
  await changed();
}

// Files that are no samples: they wait together on the server, as they are; the number they wait under, 0 where one of them could not be sent.
/** @param {FileList} files */
export async function sendBeside(files) {
  const beside = 1 + Math.floor(Math.random() * 9e8);
  const sent = await arrivals(async () => {}, { beside }).bring(files);
  return sent === files.length ? beside : 0;
}
