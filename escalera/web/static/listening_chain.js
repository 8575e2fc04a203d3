// One band, one side, the middle or the sides of what plays: made in the browser, so that they change at once.
const SIDES = {
  // left to left, left to right, right to left, right to right; how much of the low end is kept beside
  both: [1, 0, 0, 1, 0],
  left: [1, 1, 0, 0, 0],
  right: [0, 0, 1, 1, 0],
  middle: [0.5, 0.5, 0.5, 0.5, 0],
  sides: [0.5, 0.5, -0.5, -0.5, 0],
  without: [0.5, -0.5, -0.5, 0.5, 1],
};
const LOW_HZ = 130, // the low end lies in the middle, and is missed where that is taken out
  EASE_S = 0.008;

// `input` and `output` go between what plays and the gain; `shape(range, side, level)` sets the band as [low, high] in hertz or null, the side
// and a gain.
export function listeningChain(ctx) {
  const input = ctx.createGain(),
    output = ctx.createGain(),
    splitter = ctx.createChannelSplitter(2),
    merger = ctx.createChannelMerger(2),
    low = ctx.createBiquadFilter(),
    lows = ctx.createGain();
  input.channelCount = 2;
  input.channelCountMode = "explicit";
  input.connect(splitter);
  const matrix = [
    [0, 0],
    [0, 1],
    [1, 0],
    [1, 1],
  ].map(([from, to]) => {
    const gain = ctx.createGain();
    splitter.connect(gain, from);
    gain.connect(merger, 0, to);
    return gain;
  });
  low.type = "lowpass";
  low.frequency.value = LOW_HZ;
  input.connect(low).connect(lows);
  const filters = ["highpass", "highpass", "lowpass", "lowpass"].map((type) => {
    const filter = ctx.createBiquadFilter();
    filter.type = /** @type {BiquadFilterType} */ (type);
    return filter;
  });
  merger.connect(filters[0]);
  lows.connect(filters[0]);
  for (const [i, filter] of filters.slice(1).entries()) filters[i].connect(filter);
  filters[3].connect(output);
  function shape(range, side = "both", level = 1) {
    const now = ctx.currentTime,
      [from, to] = range ?? [10, 20000];
    for (const filter of filters) filter.frequency.setTargetAtTime(filter.type === "highpass" ? from : to, now, EASE_S);
    const [ll, lr, rl, rr, kept] = SIDES[side];
    for (const [i, value] of [ll, lr, rl, rr].entries()) matrix[i].gain.setTargetAtTime(value, now, EASE_S);
    lows.gain.setTargetAtTime(kept, now, EASE_S);
    output.gain.setTargetAtTime(level, now, EASE_S);
  }
  return { input, output, shape };
}
