// The parts of the scripts that know no page: run by `node --test`.
import assert from "node:assert/strict";
import { test } from "node:test";

const at = (name) => new URL(`../../escalera/web/static/${name}`, import.meta.url).href;
const { clockText } = await import(at("clock.js"));
const { grid, neat, text, valueAt, xOf, yOf } = await import(at("curvemath.js"));
const { Player } = await import(at("player.js"));

test("seconds are written as minutes, seconds and tenths", () => {
  const rows = [[0, "0:00.0"], [83.26, "1:23.3"], [59.96, "1:00.0"], [-1, "0:00.0"], [3600, "60:00.0"]];
  for (const [seconds, said] of rows) assert.equal(clockText(seconds), said);
});

const even = { low: -60, high: 12, log: false, unit: "dB", length: 7680, beat: 960 };
const byRatio = { low: 20, high: 20000, log: true, unit: "Hz", length: 7680, beat: 960 };

test("a value and its place in the drawing lead to each other", () => {
  for (const c of [even, byRatio])
    for (const share of [0, 0.25, 0.5, 1]) {
      const value = valueAt(c, share);
      assert.ok(Math.abs(valueAt(c, (96 - yOf(c, value)) / 88) - value) < 1e-6 * Math.abs(value) + 1e-9);
    }
  assert.equal(Math.round(valueAt(byRatio, 0.5)), 632, "half the way is the mean ratio");
  assert.deepEqual([valueAt(even, -3), valueAt(even, 7)], [-60, 12], "never outside the range");
  assert.deepEqual([xOf(even, 0), xOf(even, 7680)], [6, 282]);
});

test("points fall on the grid and stay inside the section", () => {
  assert.deepEqual([500, 200, 9999, -50].map((t) => grid(even, t)), [480, 0, 7680, 0]);
  assert.equal(grid(even, 500, true), 480);
  assert.deepEqual([neat(byRatio, 632.4555), text(byRatio, 12345.6), text(even, -3.14159)], [632.5, "12346 Hz", "-3.14 dB"]);
});

const RATE = 44100;
// two sections of two bars: the first of 2 s a bar, the second of 1 s a bar in three
const manifest = {
  song: 1,
  revision: 1,
  sections: [
    { id: 7, name: "Verse", start: 0, samples: 4 * RATE, bar: 1, bars: [0, 2, 4], beats: [4, 4] },
    { id: 9, name: "Chorus", start: 4 * RATE, samples: 2 * RATE, bar: 3, bars: [0, 1, 2], beats: [3, 3] },
  ],
};

test("the playhead says bar and beat, and a loop where it begins and ends", () => {
  const player = new Player();
  player.load(manifest);
  assert.equal(player.end, 6);
  const { bar, beat, index } = player.place(4.7);
  assert.deepEqual([bar, beat, index], [3, 3, 1]);
  assert.deepEqual([player.place(0).bar, player.place(3.99).beat], [1, 4]);
  const range = (...args) => { const { from, to } = player.rangeOf(...args); return [from, to]; };
  assert.deepEqual(range(9), [4, 6]);
  assert.deepEqual(range(7, { bars: [1, 1] }), [2, 4]);
  assert.deepEqual(range(9, { around: 1 }), [2, 6], "with the last bar before it");
  assert.equal(player.rangeOf(5), null);
});

const { lastParts } = await import(at("heard.js"));

test("what was heard is the last two minutes, joined where it went on", () => {
  const part = (section, from_s, seconds, more = {}) => ({ revision: 1, section, from_s, seconds, ...more });
  const rows = lastParts([part(1, 0, 4), part(1, 4, 3), part(2, 0, 0.01), part(2, 1, 5), part(2, 6, 2, { sample: 7 })]);
  assert.deepEqual(rows, [part(1, 0, 7), part(2, 1, 5), part(2, 6, 2, { sample: 7 })]);
  assert.deepEqual(lastParts([part(1, 0, 100), part(2, 0, 90), part(3, 0, 80)]).map((p) => p.section), [2, 3]);
});
