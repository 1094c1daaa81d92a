// A thin column beside the page: the whole recording from top to bottom, and where one is.

import { inks, onCurve, sharp } from "../ink.js";
import { lineHeight } from "./lines.js";
import { store, whenIdle } from "./store.js";
import { fetched } from "../asking.js";

const canvas = document.querySelector("#overview");
const view = document.querySelector("#overview-view");
const here = document.querySelector("#overview-here");
const scroller = document.querySelector("#scroller");
let pairs = new Int8Array(0);
let asked = 0;

async function load() {
  const rows = Math.max(1, canvas.clientHeight);
  if (rows === asked) return;
  asked = rows;
  const { status, body } = await fetched(`${store.root.dataset.waveform}?columns=${rows}`, "bytes");
  if (status !== 200) {
    setTimeout(() => { asked = 0; load(); }, 1000);
    return;
  }
  pairs = new Int8Array(body);
  draw();
}

function draw() {
  const wide = canvas.clientWidth, tall = canvas.clientHeight;
  if (!wide || !tall) return;
  const pen = sharp(canvas, wide, tall), colour = inks(canvas);
  const at = (sample) => (sample / store.frames) * tall;
  const count = pairs.length / 2;
  pen.fillStyle = colour("ink-2");
  for (let y = 0; y < tall; y += 1) {
    const pair = Math.floor((y / tall) * count);
    const reach = Math.max(Math.abs(pairs[2 * pair] ?? 0), Math.abs(pairs[2 * pair + 1] ?? 0)) / 127;
    const length = onCurve(reach / store.loudest) * (wide - 12);
    pen.fillRect(6, y, length, 1);
  }
  pen.fillStyle = colour("pencil");
  for (const strike of store.strikes) pen.fillRect(wide - 5, at(strike.start_sample), 3, Math.max(1, at(strike.end_sample) - at(strike.start_sample)));
  pen.fillStyle = colour("ink");
  for (const section of store.state.sections) pen.fillRect(0, at(section.start), wide, 1.5);
  showView();
}

// What moves is laid over what was drawn.
function showView() {
  const tall = canvas.clientHeight, page = store.lines * lineHeight();
  view.style.transform = `translateY(${(scroller.scrollTop / page) * tall}px)`;
  view.style.height = `${Math.max(6, Math.min(1, scroller.clientHeight / page) * tall)}px`;
  here.style.transform = `translateY(${(store.cursor / store.frames) * tall - 1}px)`;
}

function go(event) {
  const box = canvas.getBoundingClientRect();
  const share = (event.clientY - box.top) / box.height;
  scroller.scrollTop = share * store.lines * lineHeight() - scroller.clientHeight / 2;
}

canvas.addEventListener("pointerdown", (event) => { canvas.setPointerCapture(event.pointerId); go(event); });
canvas.addEventListener("pointermove", (event) => { if (event.buttons) go(event); });
const once = (doing) => {
  let waiting = false;
  return () => {
    if (waiting) return;
    waiting = true;
    requestAnimationFrame(() => { waiting = false; doing(); });
  };
};
const drawSoon = once(draw), showSoon = once(showView);
scroller.addEventListener("scroll", showSoon, { passive: true });
store.on("cursor settings", showSoon);
store.on("state", drawSoon);
document.addEventListener("colours", drawSoon);
whenIdle(() => new ResizeObserver(() => { load(); drawSoon(); }).observe(canvas));
