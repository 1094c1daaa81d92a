// How times, figures and sound are shown: what pages compute without a page.

import assert from "node:assert/strict";
import { test } from "node:test";

const said = JSON.stringify({ "1 of {count}": "{count}, davon 1" });
globalThis.document = { getElementById: () => ({ textContent: said }), documentElement: { lang: "de" } };
const { clock, extremes, onCurve, sharp } = await import("../../static/js/ink.js");
const { figure, phrase, word } = await import("../../static/js/words.js");
const { placed } = await import("../../../cutting/static/js/pairs.js");

test("a time counts a second once it is over, and is rounded where its parts are shown", () => {
  assert.deepEqual([0, 59.9, 60, 3599.99, 3600, 36061].map((seconds) => clock(seconds)), ["0:00", "0:59", "1:00", "59:59", "1:00:00", "10:01:01"]);
  assert.deepEqual([[59.996, 2], [3599.96, 1], [5.0625, 4]].map(([seconds, digits]) => clock(seconds, digits)), ["1:00.00", "1:00:00.0", "0:05.0625"]);
});

test("figures are written as the reader's language does, names as they are", () => {
  assert.equal(figure("12.5 MB"), "12,5 MB");
  assert.equal(word("1 of {count}", { count: "2.5 s" }), "2,5 s, davon 1");
  assert.equal(word("Take {name}", { name: "No. 2.5 and so on" }), "Take No. 2.5 and so on");
  assert.equal(phrase([["1 of {count}", { count: 3 }], [", {more}", { more: "x" }]]), "3, davon 1, x");
});

test("ink rises with the sound, both ways, and no further than its line", () => {
  assert.deepEqual([0, 1, -1, 4, -4].map(onCurve), [0, 1, -1, 1, -1]);
  const rising = Array.from({ length: 100 }, (_, at) => onCurve(at / 100));
  assert.ok(rising.every((height, at) => !at || height > rising[at - 1]));
});

test("of pairs the lowest and the highest are found, and of none nothing", () => {
  const pairs = new Int8Array([-3, 4, -9, 1, -2, 8]);
  assert.deepEqual([extremes(pairs, 0, 3), extremes(pairs, -5, 1), extremes(pairs, 2, 99)], [[-9, 8], [-3, 4], [-2, 8]]);
  const [low, high] = extremes(pairs, 3, 9);
  assert.ok(high < low);
});

test("a canvas has the pixels of the screen, and is begun anew only where they are others", () => {
  globalThis.devicePixelRatio = 1.5;
  const done = [];
  const pen = { setTransform: (...scale) => done.push(scale[0]), clearRect: (...box) => done.push(box) };
  let sized = 0;
  const canvas = { _wide: 0, height: 0, get width() { return this._wide; }, set width(to) { this._wide = to; sized += 1; }, getContext: () => pen };
  for (let twice = 0; twice < 2; twice += 1) assert.equal(sharp(canvas, 301, 40), pen);
  assert.deepEqual([canvas.width, canvas.height, sized], [452, 60, 1]);
  assert.deepEqual(done.slice(0, 2), [1.5, [0, 0, 301, 40]]);
});

test("pairs lie where their samples do", () => {
  assert.deepEqual(placed(new Int8Array(8), 1000, 2000, 4), { pairs: new Int8Array(8), start: 1000, perPair: 250 });
  // Fewer than asked for: the file's own, from a whole multiple of theirs.
  assert.deepEqual(placed(new Int8Array(8), 1000, 2000, 400), { pairs: new Int8Array(8), start: 768, perPair: 256 });
});
