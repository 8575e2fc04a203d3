// The input: a microphone or line, raw, its level, and how long a sound takes from the speaker back into it.
const KEPT = "escalera-input",
  CLICKS = 8,
  APART_S = 0.4,
  FIRST_S = 0.3,
  LONGEST_S = 0.35;

/** What is kept of an input by its name: latency in ms. */
export const kept = () => JSON.parse(localStorage.getItem(KEPT) ?? "{}");
export const keep = (device, latency_ms) =>
  localStorage.setItem(KEPT, JSON.stringify({ ...kept(), [device || "usual"]: latency_ms }));

// Why there is no microphone, in a plain sentence.
export function whyNot(error) {
  if (!navigator.mediaDevices)
    return "A browser lends the microphone only to pages of this machine or over https. Open Escalera on the machine it runs on, or let the program sing.";
  if (error?.name === "NotAllowedError")
    return "The microphone was not allowed. Allow it in the browser's address line and press Record again, or let the program sing.";
  if (error?.name === "NotFoundError" || error?.name === "OverconstrainedError")
    return "No microphone or line input was found. Plug one in and press Record again, or let the program sing.";
  return `The input could not be opened (${error?.message ?? error}). Choose another one, or let the program sing.`;
}

// One open input on the player's clock. `onBlock({ frame, channels })` gets what comes in; `onEnd` is told when it was unplugged.
export class TakeInputs {
  constructor(context, worklet) {
    this.context = context;
    this.worklet = worklet;
    this.onBlock = (_block) => {};
    this.loaded = undefined;
    this.onEnd = () => {};
    this.stream = null;
    this.device = null;
  }
  async open(device) {
    if (this.stream?.active && this.device === device) return;
    this.close();
    if (!navigator.mediaDevices) throw new Error("no media devices");
    const raw = {
      echoCancellation: false,
      noiseSuppression: false,
      autoGainControl: false,
      channelCount: { ideal: 2 },
    };
    this.stream = await navigator.mediaDevices.getUserMedia({
      audio: device ? { ...raw, deviceId: { exact: device } } : raw,
    });
    this.device = device;
    for (const track of this.stream.getAudioTracks()) track.addEventListener("ended", () => this.onEnd());
    this.loaded ??= this.context.audioWorklet.addModule(this.worklet);
    await this.loaded;
    await this.context.resume();
    this.source = this.context.createMediaStreamSource(this.stream);
    this.node = new AudioWorkletNode(this.context, "take-input", { numberOfInputs: 1, numberOfOutputs: 0 });
    this.node.port.onmessage = (event) => this.onBlock(event.data);
    this.source.connect(this.node);
    this.monitor(this.monitored ?? false);
  }
  // Rough monitoring, off unless it is asked for.
  monitor(on) {
    this.monitored = on;
    if (!this.source) return;
    this.heard ??= this.context.createGain();
    this.heard.gain.value = 0.5;
    this.heard.disconnect();
    if (on) {
      this.source.connect(this.heard);
      this.heard.connect(this.context.destination);
    }
  }
  close() {
    for (const track of this.stream?.getTracks() ?? []) track.stop();
    this.source?.disconnect();
    this.node?.port.close();
    this.stream = this.source = this.node = this.heard = null;
  }
  async devices() {
    const found = await (navigator.mediaDevices?.enumerateDevices() ?? []);
    return found.filter((d) => d.kind === "audioinput" && d.deviceId);
  }
}

// Clicks are played and looked for in what comes in; the middle of what each took, in seconds, or null where none was heard.
export async function measureLatency(input) {
  const { context } = input,
    rate = context.sampleRate,
    shape = clickShape(rate),
    buffer = context.createBuffer(1, shape.length, rate);
  buffer.copyToChannel(shape, 0);
  const blocks = [],
    before = input.onBlock;
  input.onBlock = (block) => {
    before(block);
    blocks.push({ frame: block.frame, data: block.channels[0] });
  };
  const start = context.currentTime + FIRST_S,
    times = Array.from({ length: CLICKS }, (_, i) => start + i * APART_S);
  for (const time of times) {
    const source = context.createBufferSource();
    source.buffer = buffer;
    source.connect(context.destination);
    source.start(time);
  }
  await new Promise((done) => setTimeout(done, 1000 * (FIRST_S + CLICKS * APART_S + LONGEST_S)));
  input.onBlock = before;
  if (!blocks.length) return null;
  const first = blocks[0].frame,
    whole = new Float32Array(blocks.at(-1).frame + blocks.at(-1).data.length - first);
  for (const { frame, data } of blocks) whole.set(data, frame - first);
  const delays = times
    .map((time) => heardAt(whole, Math.round(time * rate) - first, shape, rate))
    .filter((d) => d !== null);
  if (delays.length < CLICKS / 2) return null;
  return delays.sort((a, b) => a - b)[Math.floor(delays.length / 2)] / rate;
}
// A short burst whose own echo is unlike itself, so that it is found to the sample.
function clickShape(rate) {
  const shape = new Float32Array(Math.round(0.004 * rate));
  let seed = 7;
  for (let i = 0; i < shape.length; i++) {
    seed = (seed * 16807) % 2147483647;
    shape[i] = 0.4 * (seed / 1073741823.5 - 1) * (1 - i / shape.length);
  }
  return shape;
}
// Samples from where a click was played to where it is heard; null where it is not.
function heardAt(sound, from, shape, rate) {
  const most = Math.round(LONGEST_S * rate);
  let best = 0,
    at = -1,
    power = 0;
  for (let lag = 0; lag < most; lag++) {
    const start = from + lag;
    if (start < 0 || start + shape.length > sound.length) continue;
    let sum = 0;
    for (let i = 0; i < shape.length; i += 1) sum += sound[start + i] * shape[i];
    power += sum * sum;
    if (Math.abs(sum) > best) {
      best = Math.abs(sum);
      at = lag;
    }
  }
  return at >= 0 && best > 6 * Math.sqrt(power / most) ? at : null;
}
