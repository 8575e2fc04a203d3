// A MIDI keyboard or pads, where the browser offers them: keys pressed and released with their velocity, the sustain pedal held for
// them, and a bend kept as the notes it reaches, as when a MIDI file is read.
const NOTE_OFF = 0x80,
  NOTE_ON = 0x90,
  CONTROL = 0xb0,
  BEND = 0xe0,
  PEDAL = 64,
  MIDDLE = 8192,
  BEND_REACH = 2, // semitones to either side, as keyboards send unless told otherwise
  BENT = 0.75; // of a semitone: so far a bend must have come

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
  const held = new Set(),
    sounding = new Map(),
    bent = new Map();
  let pedal = false;
  const strike = (id, number, velocity, when) => {
    sounding.set(id, { number, velocity });
    press(id, number + (bent.get(id.split(":")[0]) ?? 0), velocity, when);
  };
  const end = (id, when) => {
    sounding.delete(id);
    release(id, when);
  };
  function bend(channel, semitones, when) {
    if (Math.abs(semitones - (bent.get(channel) ?? 0)) < BENT) return;
    bent.set(channel, Math.round(semitones));
    for (const [id, { number, velocity }] of [...sounding])
      if (id.startsWith(`${channel}:`)) {
        release(id, when);
        strike(id, number, velocity, when);
      }
  }
  const up = (id, when) => {
    if (pedal) held.add(id);
    else end(id, when);
  };
  function message(event) {
    const [status, number, value] = event.data,
      kind = status & 0xf0,
      channel = `midi${status & 0x0f}`,
      id = `${channel}:${number}`;
    if (kind === NOTE_ON && value) {
      if (held.delete(id)) end(id, event.timeStamp); // struck again while the pedal holds it
      strike(id, number, value, event.timeStamp);
    } else if (kind === NOTE_OFF || kind === NOTE_ON) up(id, event.timeStamp);
    else if (kind === CONTROL && number === PEDAL) {
      pedal = value >= 64;
      if (!pedal) {
        for (const each of held) end(each, event.timeStamp);
        held.clear();
      }
    } else if (kind === BEND) bend(channel, ((number + 128 * value - MIDDLE) / MIDDLE) * BEND_REACH, event.timeStamp);
  }
  const listen = () => {
    for (const input of access.inputs.values()) input.onmidimessage = message;
  };
  listen();
  access.onstatechange = listen;
  return [...access.inputs.values()].map((i) => i.name ?? "a keyboard");
}
