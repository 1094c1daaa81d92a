// The magnifier: the samples around the cursor, so that a mark is set to the sample.

import { sharp } from "../ink.js";
import { lineHeight, margin, spotOf, textWidth } from "./lines.js";
import { clock, store } from "./store.js";
import { fetched } from "../asking.js";
import { word } from "../words.js";

const WIDE = 520, TALL = 120;
const CHUNK = 32768;
const MOST_CHUNKS = 12;
const WIDTHS = [60, 120, 250, 500, 1000, 2000, 4000, 8000, 16000, 32000];

const lens = document.querySelector("#lens");
const canvas = lens.querySelector("canvas");
const scroller = document.querySelector("#scroller");
const said = document.querySelector("#lens-said");
const chunks = new Map();
let width = 4;
let left = 0; // the first sample shown

async function chunk(number) {
  const start = number * CHUNK, end = Math.min(store.frames, start + CHUNK);
  chunks.set(number, new Float32Array(0));
  const { ok, body } = await fetched(`${store.address}samples/?start=${start}&end=${end}`, "bytes");
  if (!ok) {
    chunks.delete(number);
    return;
  }
  chunks.set(number, new Float32Array(body));
  while (chunks.size > MOST_CHUNKS) chunks.delete(chunks.keys().next().value);
  draw();
}

function sampleOf(index) {
  const number = Math.floor(index / CHUNK);
  return chunks.get(number)?.[index - number * CHUNK];
}

export function draw() {
  lens.hidden = !store.settings.glass;
  if (lens.hidden) return;
  const { x, y } = spotOf(store.cursor);
  const wide = Math.min(WIDE, margin() + textWidth() - 8);
  // Below the line, or above it where it would be cut off.
  const below = y + lineHeight() + 4;
  const fits = below + TALL + 4 <= scroller.scrollTop + scroller.clientHeight || y < TALL + 8;
  lens.style.transform = `translate(${Math.max(4, Math.min(x - wide / 2, margin() + textWidth() - wide))}px, ${fits ? below : y - TALL - 6}px)`;
  canvas.style.width = `${wide}px`;
  canvas.style.height = `${TALL}px`;
  const count = WIDTHS[width];
  left = store.cursor - count / 2;
  const from = Math.max(0, Math.floor(left)), to = Math.min(store.frames, Math.ceil(left + count) + 1);
  if (to > from) for (let number = Math.floor(from / CHUNK); number <= Math.floor((to - 1) / CHUNK); number += 1) if (!chunks.has(number)) chunk(number);
  let loudest = 0.002;
  for (let index = from; index < to; index += 1) loudest = Math.max(loudest, Math.abs(sampleOf(index) ?? 0));
  const style = getComputedStyle(lens);
  const colour = (name) => style.getPropertyValue(`--${name}`);
  const pen = sharp(canvas, wide, TALL);
  const at = (sample) => ((sample - left) / count) * wide;
  const height = (value) => TALL / 2 - (value / loudest) * (TALL / 2 - 8);
  for (const mark of store.state.marks) {
    if (mark.end_sample <= from || mark.start_sample >= to || !store.kinds[mark.kind].heard) continue;
    pen.fillStyle = colour("rule");
    pen.fillRect(at(mark.start_sample), 0, at(mark.end_sample) - at(mark.start_sample), TALL);
  }
  pen.fillStyle = colour("rule-strong");
  pen.fillRect(0, TALL / 2, wide, 1);
  pen.strokeStyle = pen.fillStyle = colour("ink");
  pen.lineWidth = 1.25;
  pen.beginPath();
  for (let index = from; index < to; index += 1) pen.lineTo(at(index), height(sampleOf(index) ?? 0));
  pen.stroke();
  if (count <= 120) for (let index = from; index < to; index += 1) pen.fillRect(at(index) - 2, height(sampleOf(index) ?? 0) - 2, 4, 4);
  pen.fillStyle = colour("pencil");
  pen.fillRect(at(store.cursor) - 1, 0, 2, TALL);
  said.textContent = word("sample {sample} · {at} · {wide} wide, scroll to change", { sample: store.cursor, at: clock(store.cursor, 4), wide: `${((count / store.rate) * 1000).toFixed(count < 500 ? 1 : 0)} ms` });
}

canvas.addEventListener("wheel", (event) => {
  event.preventDefault();
  event.stopPropagation();
  width = Math.min(WIDTHS.length - 1, Math.max(0, width + Math.sign(event.deltaY)));
  draw();
}, { passive: false });

canvas.addEventListener("pointerdown", (event) => {
  event.stopPropagation();
  const box = canvas.getBoundingClientRect();
  store.place(left + ((event.clientX - box.left) / box.width) * WIDTHS[width], { extend: event.shiftKey });
});

store.on("cursor state settings", draw);
draw();
