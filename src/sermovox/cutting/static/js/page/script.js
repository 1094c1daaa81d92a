// The words of the text where they were spoken: found by the server, held here as rows in the order of the recording.

import { store } from "./store.js";

const PAD_S = 0.3;
const NEAR_S = 0.2;
const UNSURE = 45; // hundredths of how far a word lies from how it should sound
const SAMPLED = 400;

let state = JSON.parse(document.querySelector("#page-words").textContent);
let rows = null; // of the words: { starts, ends, texts, plain, readings, numbers, unsure }
let readings = []; // { line, whole, counts, first, stop }: its words are rows first to stop

const plainOf = (text) => text.normalize("NFD").replace(/\p{M}/gu, "").toLowerCase().replace(/[^\p{L}\p{N}]/gu, "");
const samples = (ms) => Math.min(store.frames, Math.round((ms * store.rate) / 1000));

export const words = {
  get state() { return state; },
  get shown() { return rows !== null && rows.starts.length > 0 && store.settings.words !== false; },
  get rows() { return rows; },
  get readings() { return readings; },
  take(found) {
    const same = found.so_far && found.so_far === state.so_far;
    state = same ? { ...found, lines: state.lines, readings: state.readings, outside: state.outside } : found;
    if (same) store.tell("text");
    else {
      read();
      store.tell("words");
    }
  },
};

function read() {
  rows = null;
  readings = [];
  if (!state.readings) return;
  const starts = [], ends = [], texts = [], own = [], numbers = [], unsure = [];
  state.readings.forEach(([line, whole, counts, told], reading) => {
    readings.push({ line, whole: Boolean(whole), counts: Boolean(counts), first: starts.length, stop: starts.length + told.length / 4 });
    for (let at = 0; at < told.length; at += 4) {
      starts.push(samples(told[at + 1]));
      ends.push(samples(told[at + 2]));
      texts.push(state.lines[line][told[at]] ?? "");
      own.push(reading);
      numbers.push(told[at]);
      unsure.push(told[at + 3] >= UNSURE);
    }
  });
  rows = { starts: Float64Array.from(starts), ends: Float64Array.from(ends), texts, plain: texts.map(plainOf), readings: Int32Array.from(own), numbers, unsure };
}

// The first word that begins at a sample or later.
export function firstFrom(sample) {
  let low = 0, high = rows.starts.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (rows.starts[middle] < sample) low = middle + 1;
    else high = middle;
  }
  return low;
}

// The word that is spoken at a sample, or the last one before it; -1 where there is none.
export const wordAtSample = (sample) => firstFrom(sample + 1) - 1;

// Where to cut beside a word: in the middle of the pause there, else between it and its neighbour.
export function before(word) {
  const at = rows.starts[word], last = word ? rows.ends[word - 1] : 0;
  const number = pauseNear(at, (pause) => store.pauses.ends[pause]);
  if (number >= 0) return Math.max(last, Math.round((store.pauses.starts[number] + store.pauses.ends[number]) / 2));
  return at - last < PAD_S * store.rate ? Math.round((at + last) / 2) : Math.max(last, at - Math.round(0.03 * store.rate));
}

export function after(word) {
  const at = rows.ends[word], next = word + 1 < rows.starts.length ? rows.starts[word + 1] : store.frames;
  const number = pauseNear(at, (pause) => store.pauses.starts[pause]);
  if (number >= 0) return Math.min(next, Math.round((store.pauses.starts[number] + store.pauses.ends[number]) / 2));
  return next - at < PAD_S * store.rate ? Math.round((at + next) / 2) : Math.min(next, at + Math.round(0.03 * store.rate));
}

function pauseNear(sample, edge) {
  const found = store.pauseAt(sample);
  const first = found < 0 ? -found - 1 : found;
  for (const number of [first, first - 1]) {
    if (number >= 0 && number < store.pauses.starts.length && Math.abs(edge(number) - sample) <= NEAR_S * store.rate) return number;
  }
  return -1;
}

// The words of a stretch from the first to the last of them, cut in the pauses beside them.
export const stretch = (first, last) => ({ start: before(Math.min(first, last)), end: after(Math.max(first, last)) });

// The reading a sample lies in, or the last one before it; null where there is none.
export function readingAt(sample) {
  const word = wordAtSample(sample);
  return word < 0 ? null : readings[rows.readings[word]];
}

// Where some words stand one after the other; the last of them may be typed in part.
export function find(text) {
  const wanted = text.split(/\s+/).map(plainOf).filter(Boolean);
  if (!rows || !wanted.length) return [];
  const found = [];
  for (let at = 0; at + wanted.length <= rows.plain.length; at += 1) {
    if (wanted.every((word, place) => (place < wanted.length - 1 ? rows.plain[at + place] === word : rows.plain[at + place].startsWith(word)))) found.push([at, at + wanted.length - 1]);
  }
  return found;
}

// How wide a second of speech is as text, in the pen's font; for how many rows of words lie below a line of ink.
export function widthOfSecond(pen) {
  const step = Math.max(1, Math.floor(rows.starts.length / SAMPLED));
  let wide = 0, seconds = 0;
  for (let at = 0; at + 1 < rows.starts.length; at += step) {
    wide += pen.measureText(`${rows.texts[at]} `).width;
    seconds += Math.min(1, (rows.starts[at + 1] - rows.starts[at]) / store.rate);
  }
  return seconds ? wide / seconds : 0;
}

read();
