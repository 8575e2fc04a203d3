// Recording from the computer keyboard: a count-in, then the loop runs and letters play; what was played is kept when it ends.
import { midiKeys } from "./midi_keys.js";
import { fetchNote, strikeNote } from "./notes.js";
import { say } from "./shell.js";

export function recorder({ song, edit, place, facts, field, rail, volume, layer, sketch }) {
  const button = () => document.getElementById("record");
  let on = false,
    range = null,
    notes = [],
    down = new Map(),
    midi; // names of what is connected, once it was asked for

  const letters = () => facts().letters;
  function refresh() {
    for (const name of document.querySelectorAll(".rung-names .letter")) name.remove();
    if (!on) return;
    for (const [letter, pitch] of Object.entries(letters())) {
      const rung = document.querySelector(`[data-rung="${pitch}"]`);
      if (rung) rung.prepend(Object.assign(document.createElement("em"), { className: "letter", textContent: letter }));
    }
  }
  function show() {
    button().setAttribute("aria-pressed", String(on));
    button().title = on
      ? "Letters play: A to J an octave, Q to U above, Z to M below, Shift a semitone up, Alt struck hard, Caps Lock softly. Esc keeps what was played."
      : "Record from the keyboard, after a count-in (V)";
    document.querySelector(".bench").classList.toggle("recording", on);
    button().textContent = on ? "Stop and keep" : "Record keys";
    refresh();
  }
  async function start() {
    if (!layer()) {
      say("There is no layer to record on yet. Add one with a pitch.");
      return;
    }
    for (const pitch of Object.values(letters())) fetchNote(song, pitch, layer()).catch(() => {});
    on = true;
    if (midi === undefined) {
      midi = null;
      midiKeys((id, pitch, velocity) => on && strike(id, pitch, velocity), lift).then((names) => {
        midi = names;
        if (names?.length && on) say(`${names.join(", ")} plays too, with velocity and pedal.`, "calm");
      });
    }
    notes = [];
    down = new Map();
    show();
    const { player } = rail,
      at = place(),
      { bars } = facts(),
      section = player.manifest.sections.find((s) => s.id === at.section_id);
    range = player.rangeOf(at.section_id, { bars });
    rail.setLoop(range);
    const said = document.getElementById("note-said");
    if (said) {
      said.textContent = "After one bar: letters play, A to J an octave; Esc keeps it.";
      said.classList.add("counting-in");
    }
    player.clicking = true;
    document.getElementById("click").setAttribute("aria-pressed", "true");
    await player.play(range.from, range, section.beats[bars[0]] ?? 4);
    show();
  }
  function stop() {
    for (const code of [...down.keys()]) release(code);
    on = false;
    rail.player.clicking = false;
    document.getElementById("click").setAttribute("aria-pressed", "false");
    if (rail.player.playing) rail.player.play(Math.max(range.from, rail.player.position()), range);
    show();
    return edit({
      kind: "record_notes",
      ...place(),
      notes: JSON.stringify(notes),
      amount: amount(),
      grid: field("steps").value,
      how: field("write").value,
    });
  }
  const amount = () => document.getElementById("amount")?.value ?? "1";
  const lateness = /** @type {HTMLInputElement | null} */ (document.getElementById("keys-latency"));
  if (lateness) lateness.value = localStorage.getItem("escalera-keys") ?? "0";
  lateness?.addEventListener("change", () => localStorage.setItem("escalera-keys", lateness.value));
  // What keys and ears are late by, as it was set beside the record button.
  const late = () => Number(lateness?.value.replace(",", ".") ?? 0) / 1000 || 0;
  // Where in the phrase the song is now, in seconds; a note a little before the start counts for it.
  function moment() {
    const at = rail.player.moment() - late() - range.from;
    return at < 0 ? (at > -0.25 ? 0 : null) : at % (range.to - range.from);
  }
  // Letters have no velocity of their own: with Alt they are struck hard, under Caps Lock softly.
  const press = (event, pitch) =>
    strike(event.code, pitch, event.altKey ? 120 : event.getModifierState("CapsLock") ? 64 : 96);
  function strike(id, pitch, velocity) {
    const at = moment(),
      end = strikeNote(song, pitch, layer(), volume());
    const mark =
      at === null
        ? null
        : sketch({
            tick: (at / (range.to - range.from)) * Number(document.getElementById("plot").dataset.length),
            pitch,
            ticks: 60,
            velocity,
          });
    down.set(id, { pitch, velocity, at, when: performance.now(), end, mark });
  }
  const lift = (id) => release(id);
  function release(code) {
    const note = down.get(code);
    if (!note) return;
    down.delete(code);
    note.end.then((end) => end());
    if (note.at !== null)
      notes.push([
        Number(note.at.toFixed(4)),
        Number(((performance.now() - note.when) / 1000).toFixed(4)),
        note.pitch,
        note.velocity,
      ]);
  }
  // True when the key belongs to recording: a letter that plays, or what ends it.
  function key(event) {
    if (!on) return false;
    if (event.key === "Escape" || event.key === " " || event.key === "Enter") {
      stop();
      return true;
    }
    const pitch = letters()[event.code.startsWith("Key") ? event.code.slice(3) : event.key.toUpperCase()];
    if (pitch === undefined) return false;
    if (!event.repeat && !down.has(event.code)) press(event, pitch + (event.shiftKey ? 1 : 0));
    return true;
  }
  window.addEventListener("blur", () => {
    for (const code of [...down.keys()]) release(code);
  });
  return { key, up: (event) => release(event.code), toggle: () => (on ? stop() : start()), refresh };
}
