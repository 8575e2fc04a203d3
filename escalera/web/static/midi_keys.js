// A MIDI keyboard or pads, where the browser offers them: keys pressed and released with their velocity, the sustain pedal held for them.
const NOTE_OFF = 0x80,
  NOTE_ON = 0x90,
  CONTROL = 0xb0,
  PEDAL = 64;

// `press(id, pitch, velocity, when)` and `release(id, when)` are called as keys go; a key that the pedal holds is released with the pedal.
// Gives the names of what is connected, or null where the browser offers none or it was not allowed.
export async function midiKeys(press, release) {
  if (!navigator.requestMIDIAccess) return null;
  let access;
  try {
    access = await navigator.requestMIDIAccess();
  } catch {
    return null;
  }
  const held = new Set();
  let pedal = false;
  const up = (id, when) => {
    if (pedal) held.add(id);
    else release(id, when);
  };
  function message(event) {
    const [status, number, value] = event.data,
      kind = status & 0xf0,
      id = `midi${status & 0x0f}:${number}`;
    if (kind === NOTE_ON && value) {
      if (held.delete(id)) release(id, event.timeStamp); // struck again while the pedal holds it
      press(id, number, value, event.timeStamp);
    } else if (kind === NOTE_OFF || kind === NOTE_ON) up(id, event.timeStamp);
    else if (kind === CONTROL && number === PEDAL) {
      pedal = value >= 64;
      if (!pedal) {
        for (const each of held) release(each, event.timeStamp);
        held.clear();
      }
    }
  }
  const listen = () => {
    for (const input of access.inputs.values()) input.onmidimessage = message;
  };
  listen();
  access.onstatechange = listen;
  return [...access.inputs.values()].map((i) => i.name ?? "a keyboard");
}
