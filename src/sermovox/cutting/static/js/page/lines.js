// The lines of the page: only those on view are there, each with its margin and its ink.

import { onCurve, sharp } from "../ink.js";
import { peaksOf } from "./peaks.js";
import { firstFrom, widthOfSecond, wordAtSample, words } from "./script.js";
import { clock, store } from "./store.js";
import { word } from "../words.js";

const MARGIN = 168;
const NARROW_MARGIN = 74;
const PADDING = 14;
const BEYOND = 3;
const LANE_TALL = 44; // a voice beside the first, below it in the same line
const ROW_TALL = 19; // a row of words
const MOST_ROWS = 4;
const SPACE = 4.5;

const scroller = document.querySelector("#scroller");
const list = document.querySelector("#lines");
const playhead = document.querySelector("#playhead");
const spoken = document.querySelector("#spoken");
const shown = new Map();
const spare = []; // lines that were scrolled past, used again
let colours = {};
let asked = false;

// Asking the scroller each time would make the browser lay out the page each time.
let wide = scroller.clientWidth;
export const margin = () => (wide < 620 ? NARROW_MARGIN : MARGIN);
export const textWidth = () => Math.max(60, Math.floor(wide - margin() - PADDING));
const ownHeight = () => (store.settings.perLine >= 7 ? 42 : 62);
let wordRows = 0; // below the ink of each line
export const lineHeight = () => ownHeight() + wordRows * ROW_TALL + (wordRows ? 3 : 0) + store.state.lanes.length * LANE_TALL;
export const lineOf = (sample) => Math.min(store.lines - 1, Math.floor(sample / store.lineFrames));

// Where a sample is, in the scroller's content.
export function spotOf(sample) {
  const line = lineOf(sample);
  return { x: margin() + ((sample - line * store.lineFrames) / store.lineFrames) * textWidth(), y: line * lineHeight(), line };
}

export function sampleAt(x, y) {
  const line = Math.min(store.lines - 1, Math.max(0, Math.floor(y / lineHeight())));
  const share = Math.min(1, Math.max(0, (x - margin()) / textWidth()));
  // The end of a line is the start of the next; a click there stays on this one.
  return Math.min(store.frames, Math.round(line * store.lineFrames + share * (store.lineFrames - 1)));
}

// The word at a spot of the scroller's content; -1 beside all of them.
export function wordAt({ x, y }) {
  const tall = lineHeight(), line = Math.floor(y / tall);
  const within = y - line * tall - ownHeight();
  const boxes = shown.get(line)?.boxes ?? [];
  if (!wordRows || within < 0 || within > wordRows * ROW_TALL + 3) return -1;
  const row = Math.min(wordRows - 1, Math.floor(within / ROW_TALL));
  const found = boxes.find((box) => box.row === row && x - margin() >= box.x - SPACE / 2 && x - margin() < box.x + box.wide + SPACE / 2);
  return found ? found.word : -1;
}

export function reveal(sample, { follow = false } = {}) {
  const { y } = spotOf(sample);
  const top = scroller.scrollTop, height = scroller.clientHeight, tall = lineHeight();
  if (y < top) scroller.scrollTop = follow ? y - height / 4 : y - 4;
  else if (y + tall * (store.settings.glass ? 3 : 1) > top + height) scroller.scrollTop = follow ? y - height / 4 : y + tall * (store.settings.glass ? 3.4 : 1) - height + 4;
}

export function showPlayhead(sample) {
  playhead.hidden = sample === null;
  showSpoken(sample);
  if (sample === null) return;
  const { x, y } = spotOf(sample);
  playhead.style.height = `${lineHeight()}px`;
  playhead.style.transform = `translate(${x}px, ${y}px)`;
}

// The word that is heard just now.
function showSpoken(sample) {
  const word = sample === null || !wordRows ? -1 : wordAtSample(sample);
  const line = word < 0 ? -1 : lineOf(words.rows.starts[word]);
  const box = shown.get(line)?.boxes.find((each) => each.word === word);
  spoken.hidden = !box;
  if (!box) return;
  spoken.style.width = `${box.wide + 4}px`;
  spoken.style.transform = `translate(${margin() + box.x - 2}px, ${line * lineHeight() + ownHeight() + box.row * ROW_TALL}px)`;
}

function countRows() {
  const was = wordRows;
  wordRows = 0;
  if (words.shown) {
    const pen = document.createElement("canvas").getContext("2d");
    pen.font = wordFont();
    const perLine = (widthOfSecond(pen) * store.lineFrames) / store.rate / textWidth();
    wordRows = Math.min(MOST_ROWS, Math.max(1, Math.ceil(perLine - 0.15)));
  }
  return was !== wordRows;
}

const wordFont = () => `15px ${colours.serif}`;

function takeColours() {
  const style = getComputedStyle(scroller);
  colours = Object.fromEntries(["ink", "ink-2", "ink-3", "rule", "rule-strong", "pencil", "paper"].map((name) => [name, style.getPropertyValue(`--${name}`)]));
  colours.mono = style.getPropertyValue("--mono");
  colours.sans = style.getPropertyValue("--sans");
  colours.serif = style.getPropertyValue("--serif");
}

export function refresh() {
  if (asked) return;
  asked = true;
  requestAnimationFrame(() => { asked = false; lay(); });
}

function lay(anew = true) {
  const tall = lineHeight();
  list.style.height = `${store.lines * tall}px`;
  const first = Math.max(0, Math.floor(scroller.scrollTop / tall) - BEYOND);
  const last = Math.min(store.lines - 1, Math.ceil((scroller.scrollTop + scroller.clientHeight) / tall) + BEYOND);
  for (const [line, parts] of shown) {
    if (line < first || line > last) {
      spare.push(parts);
      shown.delete(line);
    }
  }
  let before = null;
  for (let line = first; line <= last; line += 1) {
    let parts = shown.get(line);
    const fresh = !parts;
    if (fresh) {
      parts = spare.pop() ?? made();
      parts.item.setAttribute("aria-setsize", store.lines);
      parts.item.setAttribute("aria-posinset", line + 1);
      shown.set(line, parts);
      // Screen readers read in the order of the document.
      if (before) before.after(parts.item);
      else list.prepend(parts.item);
    }
    before = parts.item;
    if (fresh) parts.drawn = false;
    if (fresh || anew || !parts.drawn) draw(line, parts);
  }
  for (const parts of spare.splice(0, Math.max(0, spare.length - 4))) parts.item.remove();
  for (const parts of spare) parts.item.hidden = true;
  // How long the page took to show its first lines; read by bin/bench.
  if (!store.root.dataset.shownInMs && [...shown].every(([line, parts]) => parts.drawn || line > last - BEYOND)) store.root.dataset.shownInMs = Math.round(performance.now());
}

function made() {
  const item = document.createElement("li");
  item.className = "line";
  const side = document.createElement("div");
  side.className = "line-margin";
  side.setAttribute("aria-hidden", "true");
  const canvas = document.createElement("canvas");
  canvas.setAttribute("aria-hidden", "true");
  const said = document.createElement("span");
  said.className = "visually-hidden";
  const picked = document.createElement("div");
  picked.className = "picked";
  const caret = document.createElement("div");
  caret.className = "caret";
  item.append(said, side, picked, canvas, caret);
  return { item, side, canvas, said, picked, caret, boxes: [], drawn: false };
}

function draw(line, parts) {
  const tall = lineHeight(), width = textWidth();
  const start = line * store.lineFrames, stop = start + store.lineFrames;
  const end = Math.min(store.frames, stop);
  const { item, side, canvas } = parts;
  item.hidden = false;
  item.style.transform = `translateY(${line * tall}px)`;
  item.style.height = `${tall}px`;
  item.style.setProperty("--margin-wide", `${margin()}px`);
  const marks = store.state.marks.filter((m) => (m.end_sample > start || m.start_sample >= start) && m.start_sample < end);
  const sections = store.state.sections.filter((s) => s.start >= start && s.start < end);
  drawMargin(side, start, sections);
  drawPicked(parts, start, end, width);
  const voices = [null, ...store.state.lanes];
  const found = voices.map((lane) => peaksOf(line, width, lane));
  parts.drawn = !found.includes(null);
  if (!found[0]) {
    canvas.width = 0;
    return;
  }
  canvas.style.width = `${width}px`;
  canvas.style.height = `${tall}px`;
  const pen = sharp(canvas, width, tall);
  const at = (sample) => ((sample - start) / store.lineFrames) * width;
  const pauses = pausesIn(start, end);
  pen.fillStyle = colours.rule;
  pen.fillRect(0, tall - 1, at(end), 1);
  const own = ownHeight();
  voices.forEach((lane, place) => {
    const top = place ? tall - (voices.length - place) * LANE_TALL : 0, height = place ? LANE_TALL : own;
    if (found[place]) drawInk(pen, found[place], start, end, width, { top, height, lane }, lane ? [] : pauses, marks, at);
    drawStrikes(pen, marks, start, end, top + height / 2, at);
  });
  parts.boxes = wordRows ? drawWords(pen, start, end, width, own, marks, at) : [];
  drawMarks(pen, marks, start, end, width, own, at);
  drawSections(pen, start, end, tall, at);
  drawProposals(pen, start, end, tall, at);
  parts.said.textContent = inWords(start, end, pauses, marks, sections);
}

function pausesIn(start, end) {
  const { starts, ends } = store.pauses;
  const found = [];
  let at = store.pauseAt(start);
  at = at < 0 ? -at - 1 : at;
  for (; at < starts.length && starts[at] < end; at += 1) found.push([starts[at], ends[at]]);
  return found;
}

function drawMargin(side, start, sections) {
  const time = document.createElement("span");
  time.className = "fig time";
  time.textContent = clock(start);
  const names = sections.map((section) => {
    const name = document.createElement("span");
    name.className = "begins";
    name.textContent = section.title;
    name.title = `${section.title}, ${section.what}`;
    return name;
  });
  side.replaceChildren(...names, time);
}

function drawPicked(parts, start, end, width) {
  const selection = store.selection;
  const a = selection ? Math.max(selection.start, start) : 0, b = selection ? Math.min(selection.end, end) : 0;
  parts.picked.hidden = b <= a;
  if (b > a) {
    parts.picked.style.left = `${margin() + ((a - start) / store.lineFrames) * width}px`;
    parts.picked.style.width = `${Math.max(1, ((b - a) / store.lineFrames) * width)}px`;
  }
  const here = store.cursor >= start && store.cursor < end || store.cursor === store.frames && end === store.frames;
  parts.caret.hidden = !here;
  if (here) parts.caret.style.left = `${margin() + ((store.cursor - start) / store.lineFrames) * width}px`;
}

// The loudest place fills the line.
const inkOf = (value) => onCurve(value / 127 / store.loudest);

// Words are ink on the line, pauses are left white.
function drawInk(pen, found, start, end, width, { top: strip, height, lane }, pauses, marks, at) {
  const { pairs, perPair } = found;
  const count = pairs.length / 2, base = found.start;
  const middle = strip + height / 2, half = height / 2 - (lane ? 4 : 7);
  const louder = 10 ** ((lane?.gain_db ?? 0) / 20);
  const drawn = (mark) => store.kinds[mark.kind].drawn;
  const faded = marks.filter((m) => drawn(m) === "struck" || drawn(m) === "instead");
  const toned = marks.filter((m) => drawn(m) === "tone");
  // Whole pixels, one colour after the other: much quicker to paint than a path.
  const faint = [];
  pen.fillStyle = colours.ink;
  const columns = Math.min(width, Math.ceil(at(end)));
  let pause = 0;
  for (let x = 0; x < columns; x += 1) {
    const from = start + (x / width) * store.lineFrames, to = start + ((x + 1) / width) * store.lineFrames;
    while (pause < pauses.length && pauses[pause][1] < to) pause += 1;
    if (pause < pauses.length && pauses[pause][0] <= from) continue;
    if (toned.some((m) => m.start_sample <= from && to <= m.end_sample)) continue;
    let first = Math.floor((from - base) / perPair);
    if (lane && (first < 0 || first >= count)) continue; // not begun yet, or over
    const last = Math.min(count, Math.max(first + 1, Math.floor((to - base) / perPair)));
    first = Math.min(first, last - 1);
    let low = 127, high = -128;
    for (let pair = Math.max(0, first); pair < last; pair += 1) {
      if (pairs[2 * pair] < low) low = pairs[2 * pair];
      if (pairs[2 * pair + 1] > high) high = pairs[2 * pair + 1];
    }
    if (high < low) continue;
    const top = Math.round(middle - inkOf(high * louder) * half);
    const tall = Math.max(1, Math.round(middle - inkOf(low * louder) * half) - top);
    if (faded.some((m) => m.start_sample <= from && to <= m.end_sample)) faint.push(x, top, tall);
    else pen.fillRect(x, top, 1, tall);
  }
  pen.fillStyle = colours["rule-strong"];
  for (let at = 0; at < faint.length; at += 3) pen.fillRect(faint[at], faint[at + 1], 1, faint[at + 2]);
}

function drawStrikes(pen, marks, start, end, y, at) {
  pen.strokeStyle = colours.pencil;
  pen.lineWidth = 2;
  pen.setLineDash([]);
  pen.beginPath();
  for (const mark of marks) {
    if (store.kinds[mark.kind].drawn !== "struck") continue;
    const a = Math.max(0, at(mark.start_sample)), b = Math.min(at(end), at(mark.end_sample));
    pen.moveTo(a, y);
    pen.lineTo(b, y);
    if (mark.start_sample >= start) { pen.moveTo(a, y - 6); pen.lineTo(a, y + 6); }
    if (mark.end_sample <= end) { pen.moveTo(b, y - 6); pen.lineTo(b, y + 6); }
  }
  pen.stroke();
}

// Each word under its ink; where they need several rows they follow each other as text.
function drawWords(pen, start, end, width, top, marks, at) {
  const { rows, readings } = words;
  const first = firstFrom(start), stop = firstFrom(end);
  pen.font = wordFont();
  pen.textBaseline = "alphabetic";
  const wides = [];
  for (let word = first; word < stop; word += 1) wides.push(pen.measureText(rows.texts[word]).width);
  const boxes = wordRows === 1 ? underInk(first, wides, width, at) : inRows(first, wides, width);
  const struck = marks.filter((m) => ["struck", "instead"].includes(store.kinds[m.kind].drawn));
  drawOutside(pen, start, end, top, at);
  for (const box of boxes) {
    const y = top + box.row * ROW_TALL + 14;
    const middle = (rows.starts[box.word] + rows.ends[box.word]) / 2;
    const gone = struck.some((m) => m.start_sample <= middle && middle < m.end_sample);
    pen.fillStyle = gone || rows.unsure[box.word] ? colours["ink-3"] : colours.ink;
    pen.save();
    pen.translate(box.x, y);
    pen.scale(box.squeezed, 1);
    pen.fillText(rows.texts[box.word], 0, 0);
    pen.restore();
    pen.fillStyle = colours.pencil;
    if (gone) pen.fillRect(box.x - 1, y - 5, box.wide + 2, 1.5);
    else if (!readings[rows.readings[box.word]].counts) dots(pen, box, y + 3, 2);
    else if (rows.unsure[box.word]) {
      pen.fillStyle = colours["ink-3"];
      dots(pen, box, y + 3, 4);
    }
  }
  return boxes;
}

function dots(pen, box, y, apart) {
  for (let x = 0; x < box.wide; x += apart) pen.fillRect(box.x + x, y, 1, 1);
}

function underInk(first, wides, width, at) {
  const total = wides.reduce((sum, wide) => sum + wide + SPACE, 0);
  const squeezed = Math.min(1, width / Math.max(1, total));
  const boxes = wides.map((wide, place) => ({ word: first + place, row: 0, x: at(words.rows.starts[first + place]), wide: wide * squeezed, squeezed }));
  let free = 0;
  for (const box of boxes) {
    box.x = Math.max(box.x, free);
    free = box.x + box.wide + SPACE * squeezed;
  }
  let room = width + SPACE;
  for (const box of boxes.toReversed()) {
    box.x = Math.min(box.x, room - box.wide - SPACE * squeezed);
    room = box.x;
  }
  return boxes;
}

function inRows(first, wides, width) {
  const lay = (squeezed) => {
    const boxes = [];
    let row = 0, x = 0;
    wides.forEach((wide, place) => {
      if (x && x + wide * squeezed > width) {
        row += 1;
        x = 0;
      }
      boxes.push({ word: first + place, row, x, wide: wide * squeezed, squeezed });
      x += (wide + SPACE) * squeezed;
    });
    return { boxes, rows: row + 1 };
  };
  let squeezed = 1, found = lay(squeezed);
  while (found.rows > wordRows && squeezed > 0.3) {
    squeezed *= 0.94;
    found = lay(squeezed);
  }
  return found.boxes;
}

// Speech that is in no text.
function drawOutside(pen, start, end, top, at) {
  pen.fillStyle = colours["ink-2"];
  for (const [from, to] of words.state.outside ?? []) {
    const [a, b] = [from, to].map((ms) => (ms * store.rate) / 1000);
    if (b <= start || a >= end || wordRows > 1) continue;
    const left = Math.max(0, at(a)), right = Math.min(at(end), at(b));
    for (let x = left; x < right; x += 6) pen.fillRect(x, top + 9, Math.min(3, right - x), 1.5);
  }
}

const decibels = (value) => `${value > 0 ? "+" : "−"}${Math.abs(value)} dB`;

function drawMarks(pen, marks, start, end, width, tall, at) {
  pen.font = `14px ${colours.sans}`;
  pen.textBaseline = "alphabetic";
  for (const mark of marks) {
    const { drawn, said } = store.kinds[mark.kind];
    if (drawn === "struck") continue;
    const a = Math.max(0, at(mark.start_sample)), b = Math.min(at(end), at(Math.max(mark.end_sample, mark.start_sample)));
    const begins = mark.start_sample >= start;
    pen.strokeStyle = pen.fillStyle = colours.pencil;
    pen.lineWidth = 1.5;
    pen.setLineDash([]);
    const label = (text, x, y) => {
      if (!begins) return;
      const left = Math.min(x, width - pen.measureText(text).width);
      // On a rim of paper, so that it can be read where there is ink.
      pen.save();
      pen.setLineDash([]);
      pen.lineWidth = 4;
      pen.lineJoin = "round";
      pen.strokeStyle = colours.paper;
      pen.strokeText(text, left, y);
      pen.restore();
      pen.fillText(text, left, y);
    };
    const stroke = (...points) => {
      pen.beginPath();
      points.forEach(([x, y], place) => (place ? pen.lineTo(x, y) : pen.moveTo(x, y)));
      pen.stroke();
    };
    if (drawn === "tone") {
      pen.setLineDash([1, 3]);
      for (const y of [-3, 0, 3]) stroke([a, tall / 2 + y], [b, tall / 2 + y]);
      label(said, a + 3, 10);
    } else if (drawn === "bracket") {
      stroke([a, 11], [a, 4], [b, 4], [b, 11]);
      label(decibels(mark.value_db), a + 4, 15);
    } else if (drawn === "dashes") {
      pen.setLineDash([3, 3]);
      stroke([a, tall - 4], [b, tall - 4]);
      label(`${said} ${mark.value_db} dB`, a + 3, tall - 7);
    } else if (drawn === "rise" || drawn === "fall") {
      const share = (sample) => {
        const angle = (Math.PI / 2) * Math.min(1, Math.max(0, (sample - mark.start_sample) / (mark.end_sample - mark.start_sample)));
        return drawn === "rise" ? Math.sin(angle) : Math.cos(angle);
      };
      const points = [];
      for (let step = 0; step <= 24; step += 1) {
        const x = a + ((b - a) * step) / 24;
        points.push([x, tall - 5 - share(start + (x / width) * store.lineFrames) * (tall - 10)]);
      }
      stroke(...points);
    } else if (drawn === "flag") {
      if (begins) stroke([a - 5, tall - 2], [a, tall - 11], [a + 5, tall - 2]);
      if (mark.end_sample > mark.start_sample) stroke([a, tall - 2], [b, tall - 2]);
      label(mark.name, a + 7, tall - 4);
    } else if (drawn === "instead") {
      if (begins) stroke([a, tall - 3], [a + 6, tall - 13], [a + 12, tall - 3]);
      pen.setLineDash([5, 3]);
      stroke([a, 4], [b, 4]);
      label(`${word("instead: {name}", { name: mark.name })} ${mark.value_db ? decibels(mark.value_db) : ""}`, a + 3, 16);
    } else {
      stroke([a, tall - 8], [a, tall - 3], [b, tall - 3], [b, tall - 8]);
      label(said, a + 4, tall - 7);
    }
  }
  pen.setLineDash([]);
}

function drawSections(pen, start, end, tall, at) {
  pen.strokeStyle = colours.ink;
  pen.lineWidth = 2;
  for (const section of store.state.sections) {
    for (const [sample, way] of [[section.start, 1], [section.end, -1]]) {
      if (sample < start || sample > end || sample === end && way > 0 && end < store.frames || sample === start && way < 0) continue;
      const x = Math.min(Math.max(1, at(sample)), at(end) - 1);
      pen.beginPath();
      pen.moveTo(x + 7 * way, 2);
      pen.lineTo(x, 2);
      pen.lineTo(x, tall - 2);
      pen.lineTo(x + 7 * way, tall - 2);
      pen.stroke();
    }
  }
}

function drawProposals(pen, start, end, tall, at) {
  pen.strokeStyle = colours.pencil;
  pen.lineWidth = 1.5;
  pen.setLineDash([4, 3]);
  for (const cut of store.cuts) {
    if (cut < start || cut >= end) continue;
    pen.beginPath();
    pen.moveTo(at(cut), 0);
    pen.lineTo(at(cut), tall);
    pen.stroke();
  }
  for (const [a, b] of store.proposed) {
    if (b <= start || a >= end) continue;
    pen.beginPath();
    pen.moveTo(at(Math.max(a, start)), tall / 2);
    pen.lineTo(at(Math.min(b, end)), tall / 2);
    pen.stroke();
  }
  pen.setLineDash([]);
}

function inWords(start, end, pauses, marks, sections) {
  const parts = [word("{from} to {to}", { from: clock(start), to: clock(end) })];
  for (const section of sections) parts.push(word("section {title} begins at {at}", { title: section.title, at: clock(section.start) }));
  parts.push(pauses.length === 1 ? word("1 pause") : word("{count} pauses", { count: pauses.length }));
  if (words.shown) {
    const read = words.rows.texts.slice(firstFrom(start), firstFrom(end)).join(" ");
    if (read) parts.push(word("the words: {words}", { words: read }));
  }
  for (const mark of marks.slice(0, 12)) parts.push(word("{what} {name} from {from} to {to}", { what: store.kinds[mark.kind].said, name: mark.name ?? "", from: clock(mark.start_sample, 1), to: clock(mark.end_sample, 1) }));
  return `${parts.join(", ")}.`;
}

function redrawPicked() {
  for (const [line, parts] of shown) {
    const start = line * store.lineFrames;
    drawPicked(parts, start, Math.min(store.frames, start + store.lineFrames), textWidth());
  }
}

takeColours();
countRows();
scroller.addEventListener("scroll", () => lay(false), { passive: true });
new ResizeObserver(() => {
  const grown = scroller.clientWidth !== wide;
  wide = scroller.clientWidth;
  if (grown) countRows();
  if (grown) refresh();
  else lay(false);
}).observe(scroller);
document.addEventListener("colours", () => { takeColours(); refresh(); });
document.fonts?.ready.then(() => keepingPlace(countRows));
store.on("words", () => keepingPlace(countRows));
store.on("state pauses proposals", refresh);
// What arrived is drawn where it was waited for.
store.on("peaks", () => lay(false));
store.on("cursor", redrawPicked);

// What is on view stays there when the lines become taller or lower.
function keepingPlace(change) {
  const share = scroller.scrollTop / lineHeight();
  if (change()) {
    list.style.height = `${store.lines * lineHeight()}px`;
    scroller.scrollTop = share * lineHeight();
  }
  refresh();
}
let perLine = store.settings.perLine, shownWords = store.settings.words, laneCount = store.state.lanes.length;
store.on("state", () => {
  if (laneCount === store.state.lanes.length) return;
  laneCount = store.state.lanes.length;
  reveal(store.cursor);
});
store.on("settings", () => {
  if (shownWords !== store.settings.words) {
    shownWords = store.settings.words;
    keepingPlace(countRows);
  }
  if (perLine !== store.settings.perLine) {
    perLine = store.settings.perLine;
    countRows();
    for (const parts of shown.values()) parts.item.remove();
    shown.clear();
    const { y } = spotOf(store.cursor);
    list.style.height = `${store.lines * lineHeight()}px`;
    scroller.scrollTop = y - scroller.clientHeight / 3;
  }
  refresh();
});
lay();
