// A thin column beside the page: the whole recording from top to bottom, and where one is.

import { lineHeight } from "./lines.js";
import { store } from "./store.js";

const canvas = document.querySelector("#overview");
const scroller = document.querySelector("#scroller");
let pairs = new Int8Array(0);
let asked = 0;

async function load() {
  const rows = Math.max(1, canvas.clientHeight);
  if (rows === asked) return;
  asked = rows;
  const answer = await fetch(`${store.root.dataset.waveform}?columns=${rows}`).catch(() => null);
  if (answer?.status !== 200) {
    setTimeout(() => { asked = 0; load(); }, 1000);
    return;
  }
  pairs = new Int8Array(await answer.arrayBuffer());
  draw();
}

function draw() {
  const wide = canvas.clientWidth, tall = canvas.clientHeight, ratio = devicePixelRatio;
  if (!wide || !tall) return;
  if (canvas.width !== wide * ratio || canvas.height !== tall * ratio) {
    canvas.width = wide * ratio;
    canvas.height = tall * ratio;
  }
  const style = getComputedStyle(canvas);
  const colour = (name) => style.getPropertyValue(`--${name}`);
  const pen = canvas.getContext("2d");
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  pen.clearRect(0, 0, wide, tall);
  const at = (sample) => (sample / store.frames) * tall;
  const count = pairs.length / 2;
  pen.fillStyle = colour("ink-2");
  for (let y = 0; y < tall; y += 1) {
    const pair = Math.floor((y / tall) * count);
    const reach = Math.max(Math.abs(pairs[2 * pair] ?? 0), Math.abs(pairs[2 * pair + 1] ?? 0)) / 127;
    const length = reach ** 0.6 * (wide - 12);
    pen.fillRect(6, y, length, 1);
  }
  pen.fillStyle = colour("pencil");
  for (const strike of store.strikes) pen.fillRect(wide - 5, at(strike.start_sample), 3, Math.max(1, at(strike.end_sample) - at(strike.start_sample)));
  pen.fillStyle = colour("ink");
  for (const section of store.state.sections) pen.fillRect(0, at(section.start), wide, 1.5);
  pen.fillStyle = colour("pencil");
  pen.fillRect(0, at(store.cursor) - 1, wide, 2);
  const page = store.lines * lineHeight();
  pen.strokeStyle = colour("ink");
  pen.lineWidth = 1.5;
  pen.strokeRect(1, (scroller.scrollTop / page) * tall, wide - 2, Math.max(6, Math.min(1, scroller.clientHeight / page) * tall - 1));
}

function go(event) {
  const box = canvas.getBoundingClientRect();
  const share = (event.clientY - box.top) / box.height;
  scroller.scrollTop = share * store.lines * lineHeight() - scroller.clientHeight / 2;
}

canvas.addEventListener("pointerdown", (event) => { canvas.setPointerCapture(event.pointerId); go(event); });
canvas.addEventListener("pointermove", (event) => { if (event.buttons) go(event); });
let waiting = false;
const soon = () => {
  if (waiting) return;
  waiting = true;
  requestAnimationFrame(() => { waiting = false; draw(); });
};
scroller.addEventListener("scroll", soon, { passive: true });
store.on("state cursor settings", soon);
document.addEventListener("colours", soon);
new ResizeObserver(() => { load(); soon(); }).observe(canvas);
