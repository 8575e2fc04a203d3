// What comes in, handed on in blocks with the frame at which each begins, so that a gap at the start is known.
const BLOCK = 2048;

class TakeInput extends AudioWorkletProcessor {
  constructor() {
    super();
    this.rows = [];
    this.first = 0;
    this.length = 0;
  }
  process(inputs) {
    const input = inputs[0];
    if (!input.length) return true;
    if (!this.length) this.first = currentFrame;
    this.rows.push(input.map((channel) => channel.slice()));
    this.length += input[0].length;
    if (this.length >= BLOCK) {
      const channels = Array.from({ length: Math.min(2, input.length) }, (_, c) => {
        const whole = new Float32Array(this.length);
        let at = 0;
        for (const row of this.rows) {
          whole.set(row[Math.min(c, row.length - 1)], at);
          at += row[0].length;
        }
        return whole;
      });
      this.port.postMessage(
        { frame: this.first, channels },
        channels.map((c) => c.buffer),
      );
      this.rows = [];
      this.length = 0;
    }
    return true;
  }
}
registerProcessor("take-input", TakeInput);
