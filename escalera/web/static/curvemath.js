// Where the points of a curve lie in its drawing, and what a place in the drawing means. `c` is a curve as the page says it:
// low, high and unit of its parameter, whether it runs by ratio (log), its length and a beat in ticks.
export const WIDTH = 288,
  HEIGHT = 104;

/** @typedef {{ low: number, high: number, log: boolean, unit: string, length: number, beat: number }} Curve */

/** @param {Curve} c @param {number} v */
export const shareOf = (c, v) =>
  c.log ? Math.log(v / c.low) / Math.log(c.high / c.low) : (v - c.low) / (c.high - c.low);

/** The value at a share of the range, which is kept inside it. @param {Curve} c @param {number} share */
export const valueAt = (c, share) => {
  const t = Math.max(0, Math.min(1, share));
  return c.log ? c.low * (c.high / c.low) ** t : c.low + (c.high - c.low) * t;
};

/** @param {Curve} c @param {number} tick */
export const xOf = (c, tick) => 6 + ((WIDTH - 12) * tick) / c.length;

/** @param {Curve} c @param {number} v */
export const yOf = (c, v) => HEIGHT - 8 - (HEIGHT - 16) * shareOf(c, v);

/** The nearest half of a beat, or eighth of one when `fine`, inside the curve. @param {Curve} c @param {number} tick @param {boolean} [fine] */
export const grid = (c, tick, fine) => {
  const step = c.beat / (fine ? 8 : 2);
  return Math.max(0, Math.min(c.length, Math.round(tick / step) * step));
};

/** A value without figures that nobody hears. @param {Curve} c @param {number} v */
export const neat = (c, v) => Number(v.toPrecision(c.log ? 4 : 6));

/** @param {Curve} c @param {number} v */
export const text = (c, v) => `${Math.abs(v) < 100 ? Number(v.toPrecision(3)) : Math.round(v)} ${c.unit}`.trim();
