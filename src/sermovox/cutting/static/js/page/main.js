// The page of a recording: pointing, keys and the words under the page.

import { edit } from "./edits.js";
import { draw as drawLens } from "./lens.js";
import { lineHeight, lineOf, margin, reveal, sampleAt, spotOf, textWidth, wordAt } from "./lines.js";
import { pauseSettings } from "./notes.js";
import "./overview.js";
import { after, before, firstFrom, readingAt, stretch, wordAtSample, words } from "./script.js";
import { SPEEDS, meantAt, play, playAround, playing, setSpeed, stop } from "./sound.js";
import { LINE_SECONDS, clock, say, store, whenIdle } from "./store.js";
import "./text.js";
import { fetched } from "../asking.js";
import { word } from "../words.js";

const NEAR_PX = 5;
const EDGE_PX = 26;
const FIRST_POINT_MS = 350;
const el = (id) => document.getElementById(id);
const scroller = el("scroller");

// --- What is chosen -------------------------------------------------------------------------------------------

async function snapped(places) {
  const to = store.settings.snap;
  if (!to) return places;
  const words = new URLSearchParams({ to, shortest_s: store.settings.shortest_s });
  const { level_db } = pauseSettings();
  if (level_db !== null) words.set("level_db", level_db);
  for (const place of places) words.append("at", place);
  const { ok, body } = await fetched(`${store.address}snap/?${words}`);
  return ok ? body.at : places;
}

async function snapSelection() {
  if (!store.settings.snap) return;
  const { selection } = store;
  const was = [store.anchor, store.cursor];
  const [a, b] = await snapped(selection ? [selection.start, selection.end] : [store.cursor]);
  if (was[0] !== store.anchor || was[1] !== store.cursor) return;
  if (!selection) store.place(a);
  else if (b > a) store.select(a, b);
}

function showChosen() {
  const { selection } = store;
  if (!playing()) el("where").textContent = clock(store.cursor, 3);
  el("chosen").textContent = selection ? word("{seconds} selected, {from} to {to}", { seconds: `${((selection.end - selection.start) / store.rate).toFixed(3)} s`, from: clock(selection.start, 3), to: clock(selection.end, 3) }) : store.pauseAt(store.cursor) >= 0 ? word("in a pause") : "";
}

function showButtons() {
  const chosen = Boolean(store.selection);
  const wanting = Object.values(store.kinds).filter((kind) => kind.button).map((kind) => kind.action);
  for (const name of [...wanting, "restore", "keep", "pickup", "tone-from"]) document.querySelector(`[data-do="${name}"]`).classList.toggle("idle", !chosen);
  const { undo, redo } = store.state;
  const undoing = document.querySelector('[data-do="undo"]'), redoing = document.querySelector('[data-do="redo"]');
  undoing.disabled = !undo;
  redoing.disabled = !redo;
  undoing.title = undo ?? "";
  redoing.title = redo ?? "";
  document.querySelector('[data-do="play"]').firstChild.textContent = `${playing() ? word("Stop") : word("Play")} `;
}

// --- Pointing -------------------------------------------------------------------------------------------------

let press = null;

function spotted(event) {
  const box = scroller.getBoundingClientRect();
  return { x: event.clientX - box.left, y: event.clientY - box.top + scroller.scrollTop };
}

// An edge that is dragged instead of the text: of a section or a mark, within a few pixels.
function edgeAt({ x, y }) {
  const near = (sample) => {
    const spot = spotOf(sample);
    const line = Math.floor(y / lineHeight());
    return spot.line === line && Math.abs(spot.x - x) <= NEAR_PX;
  };
  for (const section of store.state.sections) {
    if (section.start > 0 && near(section.start)) return { section: section.section, stretch: section.stretch, edge: "start" };
    if (section.end < store.frames && near(section.end)) return { section: section.section, stretch: section.stretch, edge: "end" };
  }
  for (const mark of store.state.marks) {
    if (near(mark.start_sample)) return { mark, edge: "start" };
    if (near(mark.end_sample)) return { mark, edge: "end" };
  }
  return null;
}

scroller.addEventListener("pointerdown", (event) => {
  if (event.button || event.target.closest("#lens")) return;
  const spot = spotted(event);
  if (spot.x > margin() + textWidth() + 12) return; // the scroll bar
  const at = sampleAt(spot.x, spot.y);
  const edge = event.pointerType === "touch" ? null : edgeAt(spot);
  press = { edge, moved: false, touch: event.pointerType === "touch", x: event.clientX, y: event.clientY, time: event.timeStamp };
  if (press.touch) return;
  scroller.setPointerCapture(event.pointerId);
  if (edge) return store.place(at);
  press.word = wordAt(spot);
  if (press.word >= 0) {
    if (!event.shiftKey) return store.place(words.rows.starts[press.word]);
    press.word = -1;
    press.moved = true;
    return selectToWord(wordAt(spot));
  }
  if (spot.x < margin()) {
    const line = Math.floor(spot.y / lineHeight());
    return store.select(line * store.lineFrames, Math.min(store.frames, (line + 1) * store.lineFrames));
  }
  store.place(at, { extend: event.shiftKey });
});

scroller.addEventListener("pointermove", (event) => {
  if (press && !press.touch && event.buttons) {
    if (!press.moved && Math.hypot(event.clientX - press.x, event.clientY - press.y) < 3) return;
    press.moved = true;
    const box = scroller.getBoundingClientRect();
    if (event.clientY < box.top + EDGE_PX) scroller.scrollTop -= 14;
    if (event.clientY > box.bottom - EDGE_PX) scroller.scrollTop += 14;
    const spot = spotted(event);
    const reached = press.word >= 0 ? wordAt(spot) : -1;
    if (reached >= 0) {
      const { start, end } = stretch(press.word, reached);
      if (reached < press.word) store.select(end, start);
      else store.select(start, end);
    } else if (!(press.word >= 0)) store.place(sampleAt(spot.x, spot.y), { extend: !press.edge });
  } else if (!event.buttons && event.pointerType !== "touch") {
    scroller.style.cursor = edgeAt(spotted(event)) ? "ew-resize" : "text";
  }
});

scroller.addEventListener("pointerup", async (event) => {
  const done = press;
  press = null;
  if (!done) return;
  if (done.touch) {
    // A short touch that stayed where it was points; a longer one scrolls.
    if (event.timeStamp - done.time < FIRST_POINT_MS && Math.hypot(event.clientX - done.x, event.clientY - done.y) < 8) {
      const spot = spotted(event);
      const touched = wordAt(spot);
      store.place(touched >= 0 ? words.rows.starts[touched] : sampleAt(spot.x, spot.y));
      if (playing() || touched >= 0) play(store.cursor);
    }
    return;
  }
  if (done.edge && done.moved) {
    const [at] = await snapped([store.cursor]);
    const { edge, mark } = done.edge;
    if (!mark) return edit("edge", { ...done.edge, at });
    const moved = { start: mark.start_sample, end: mark.end_sample, [edge]: at };
    if (mark.kind === "point" && mark.start_sample === mark.end_sample) moved.start = moved.end = at;
    return edit("move", { id: mark.id, ...moved });
  }
  if (done.word >= 0 && done.moved) return;
  // A click while it plays goes on from there; one on a word is heard from it.
  if (done.word >= 0) return play(store.cursor);
  if (playing() && !done.moved && !event.shiftKey) play(store.cursor);
  snapSelection();
});
scroller.addEventListener("pointercancel", () => { press = null; });

scroller.addEventListener("dblclick", (event) => {
  if (event.target.closest("#lens")) return;
  const spot = spotted(event);
  const clicked = wordAt(spot);
  if (clicked >= 0) {
    stop();
    return selectSentence(words.rows.starts[clicked]);
  }
  const { start, end } = store.phrase(sampleAt(spot.x, spot.y));
  store.select(start, end);
});

function selectSentence(sample) {
  const reading = words.rows && readingAt(sample);
  if (!reading) return say(word("There are no words at the cursor."), true);
  const { start, end } = stretch(reading.first, reading.stop - 1);
  store.select(start, end);
}

// From where the selection began to a word, whichever side it lies on.
function selectToWord(to) {
  const from = store.anchor ?? store.cursor;
  store.select(from, words.rows.starts[to] >= from ? after(to) : before(to));
}

// Where the next word begins, or the one before; while selecting, where the one that is passed ends. Null without words.
function nextWord(way, extend) {
  if (!words.shown) return null;
  const { starts } = words.rows;
  if (!extend) return starts[way > 0 ? firstFrom(store.cursor + 1) : wordAtSample(store.cursor - 1)] ?? (way > 0 ? store.frames : 0);
  const within = way > 0 ? Math.max(0, wordAtSample(store.cursor + 1)) : wordAtSample(store.cursor - 1);
  if (way < 0) return within < 0 ? 0 : before(within);
  return [within, within + 1].map((each) => (each < starts.length ? after(each) : store.frames)).find((to) => to > store.cursor) ?? store.frames;
}

scroller.addEventListener("wheel", (event) => {
  if (!event.ctrlKey) return;
  event.preventDefault();
  perLine(Math.sign(event.deltaY));
}, { passive: false });

// --- Moving as in text ----------------------------------------------------------------------------------------

function go(sample, extend) {
  store.place(sample, { extend });
  reveal(store.cursor);
}

function nextPause(way) {
  const at = store.pauseAt(store.cursor);
  const { starts, ends } = store.pauses;
  const middle = (number) => Math.round((starts[number] + ends[number]) / 2);
  let number = at >= 0 ? at : way > 0 ? -at - 1 : -at - 2;
  if (at >= 0 && (middle(at) - store.cursor) * way <= 0) number += way;
  if (number < 0) return 0;
  return number < starts.length ? middle(number) : store.frames;
}

scroller.addEventListener("keydown", (event) => {
  const extend = event.shiftKey, word = event.ctrlKey || event.metaKey;
  const line = lineOf(store.cursor);
  const small = store.lineFrames / 100;
  const onPage = Math.max(1, Math.floor(scroller.clientHeight / lineHeight()) - 1);
  const places = {
    ArrowLeft: () => (word ? nextWord(-1, extend) ?? nextPause(-1) : store.cursor - small),
    ArrowRight: () => (word ? nextWord(1, extend) ?? nextPause(1) : store.cursor + small),
    ArrowUp: () => store.cursor - store.lineFrames,
    ArrowDown: () => store.cursor + store.lineFrames,
    Home: () => (word ? 0 : line * store.lineFrames),
    End: () => (word ? store.frames : (line + 1) * store.lineFrames - 1),
    PageUp: () => store.cursor - onPage * store.lineFrames,
    PageDown: () => store.cursor + onPage * store.lineFrames,
  };
  if (places[event.key] && !event.altKey) {
    event.preventDefault();
    placeWhereHeard("phrase");
    const to = places[event.key]();
    if ((event.key.startsWith("Page") || /Up|Down/.test(event.key)) && (to < 0 || to > store.frames)) return;
    go(to, extend);
  }
});

document.addEventListener("keydown", (event) => {
  if (event.target.closest("input:not([type=range]):not([type=checkbox]):not([type=radio]), textarea, select")) return;
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z") {
    event.preventDefault();
    edit(event.shiftKey ? "redo" : "undo");
  }
  if (event.key === "Escape") {
    store.anchor = null;
    store.tell("cursor");
  }
  // Shift goes on selecting with the keys that move.
  const moves = { W: () => nextPause(-1), E: () => nextPause(1), "<": () => store.cursor - 1, ">": () => store.cursor + 1, ";": () => store.cursor - 1, ":": () => store.cursor + 1 };
  if (moves[event.key] && !event.ctrlKey && !event.metaKey && !event.altKey) go(moves[event.key](), true);
});

function perLine(way) {
  const wanted = Math.min(LINE_SECONDS.length - 1, Math.max(0, Number(store.settings.perLine) + way));
  if (wanted !== store.settings.perLine) store.set("perLine", wanted);
  showPerLine();
}

function showPerLine() {
  const text = LINE_SECONDS[store.settings.perLine] < 60 ? `${LINE_SECONDS[store.settings.perLine]} s` : `${LINE_SECONDS[store.settings.perLine] / 60} min`;
  el("per-line").value = store.settings.perLine;
  el("per-line").setAttribute("aria-valuetext", text);
  el("per-line-said").textContent = text;
}

// --- Asking for a value ---------------------------------------------------------------------------------------

let answering = null;

function question(label, { value = "", type = "number", step = 0.5, more = "" }) {
  const input = el("ask-value");
  Object.assign(input, { type, value });
  if (type === "number") input.step = step;
  el("ask-label").textContent = label;
  el("ask-more").innerHTML = "";
  if (more) el("ask-more").append(more);
  el("ask").hidden = false;
  input.hidden = type === "hidden";
  (type === "hidden" ? more.querySelector("select, input") : input).focus();
  input.select?.();
  return new Promise((resolve) => { answering = resolve; });
}

function answered(value) {
  el("ask").hidden = true;
  answering?.(value);
  answering = null;
  scroller.focus({ preventScroll: true });
}

el("ask").addEventListener("submit", (event) => { event.preventDefault(); answered(el("ask-value").value); });
el("ask-cancel").addEventListener("click", () => answered(null));
el("ask").addEventListener("keydown", (event) => {
  if (event.key !== "Escape") return;
  event.stopPropagation();
  answered(null);
});

// --- What can be done -----------------------------------------------------------------------------------------

const selected = (doing) => async () => {
  if (!store.selection) return say(word("Select something first: drag over it, or press s for what lies between two pauses."), true);
  // Selected with keys, it has not been settled on a crossing or a pause yet.
  await snapSelection();
  return store.selection && doing(store.selection);
};
const marking = (kind) => selected(({ start, end }) => edit("mark", { kind: kind.name, start, end }));
const marks = Object.values(store.kinds).filter((kind) => kind.button).map((kind) => [kind.action, kind.value ? selected(() => withValue(kind)) : marking(kind)]);

async function withValue({ name, value: { asks, usual, step } }) {
  const { start, end } = store.selection, setting = `${name}_db`;
  const value = await question(asks, { value: store.settings[setting] ?? usual, step });
  if (value === null) return;
  store.set(setting, Number(value));
  edit("mark", { kind: name, start, end, value_db: Number(value) });
}

async function pickup({ start, end }) {
  if (!store.others.length) return say(word("There is no other recording in this production to take a pickup from. Bring it in first."), true);
  const more = document.createElement("span");
  const choose = document.createElement("select");
  choose.className = "form-select inline";
  choose.setAttribute("aria-label", word("Recording of the pickup"));
  for (const other of store.others) choose.append(new Option(other.name, other.pk));
  const edge = (label) => {
    const box = document.createElement("label");
    box.className = "small";
    box.append(` ${label} `, Object.assign(document.createElement("input"), { type: "number", step: 0.01, min: 0, className: "form-control inline number" }));
    return box;
  };
  const from = edge(word("from, s")), to = edge(word("to, s"));
  const fill = () => {
    from.lastChild.value = 0;
    to.lastChild.value = store.others.find((each) => String(each.pk) === choose.value).seconds;
  };
  choose.addEventListener("change", fill);
  fill();
  more.append(choose, from, to);
  const value = await question(word("Instead of what is selected, at the level around it:"), { type: "hidden", more });
  if (value === null) return;
  const other = store.others.find((each) => String(each.pk) === choose.value);
  const last = Number(to.lastChild.value);
  edit("pickup", { start, end, recording: other.pk, from_s: Number(from.lastChild.value), to_s: last >= other.seconds ? 0 : last });
}

async function section(fromEnd) {
  const { selection } = store;
  if (selection) return edit("section", { ...selection, from_end: fromEnd });
  const [at] = await snapped([store.cursor]);
  return edit("break", { at, from_end: fromEnd });
}

async function mark() {
  const { start, end } = store.selection ?? { start: store.cursor, end: store.cursor };
  const name = await question(word("Name of the mark:"), { type: "text", value: "" });
  if (name !== null) edit("mark", { kind: "point", start, end, name });
}

function around() {
  const strike = store.selection ?? nearestMark();
  if (!strike) return say(word("Nothing is marked near the cursor."), true);
  playAround(strike.start, strike.end);
}

function nearestMark() {
  let best = null;
  for (const m of store.state.marks) {
    const far = Math.max(m.start_sample - store.cursor, store.cursor - m.end_sample, 0);
    if (store.kinds[m.kind].heard && (!best || far < best.far)) best = { far, start: m.start_sample, end: m.end_sample };
  }
  return best;
}

let begun = 0; // where From here was pressed
const step = (by) => () => go(store.cursor + by, false);
const speed = (by) => () => setSpeed(SPEEDS[Math.min(SPEEDS.length - 1, Math.max(0, SPEEDS.indexOf(store.settings.speed) + by))]);

const doers = {
  play: () => {
    if (!playing()) return store.selection ? play(store.selection.start, store.selection.end) : play(store.cursor);
    const at = stop();
    if (at !== null && !store.selection) store.place(at);
  },
  around,
  ...Object.fromEntries(marks),
  restore: () => {
    const chosen = store.selection ?? store.state.marks.map((m) => ({ start: m.start_sample, end: m.end_sample })).find((m) => m.start <= store.cursor && store.cursor < m.end);
    return chosen ? edit("restore", chosen) : say(word("Nothing is marked at the cursor."), true);
  },
  keep: selected((chosen) => edit("keep", chosen)),
  pickup: selected(pickup),
  "tone-from": selected((chosen) => edit("tone-from", chosen)),
  section: () => section(false),
  "section-end": () => section(true),
  mark,
  undo: () => edit("undo"),
  redo: () => edit("redo"),
  from: () => {
    begun = store.cursor;
    store.place(begun);
    say(word("The selection begins at {at}. Go to its end and press b, or touch To here.", { at: clock(begun, 3) }));
  },
  to: () => {
    if (store.cursor > begun) store.select(begun, store.cursor);
    else say(word("The end lies before the beginning. Choose a later place, or begin anew with From here."), true);
  },
  "pause-before": () => go(nextPause(-1), false),
  "pause-after": () => go(nextPause(1), false),
  phrase: () => {
    if (!store.pausesKnown) return say(word("The pauses are still being looked for. Try again in a moment."), true);
    const { start, end } = store.phrase(store.cursor);
    store.select(start, end);
  },
  sentence: () => selectSentence(store.cursor),
  line: () => { const line = lineOf(store.cursor); store.select(line * store.lineFrames, (line + 1) * store.lineFrames); },
  "sample-before": step(-1),
  "sample-after": step(1),
  slower: speed(-1),
  faster: speed(1),
  finer: () => perLine(-1),
  coarser: () => perLine(1),
  snapping: () => {
    const kinds = ["", "zero", "pause"];
    el("snap").value = kinds[(kinds.indexOf(store.settings.snap) + 1) % 3];
    el("snap").dispatchEvent(new Event("change"));
    say(word("Marks snap to {what}.", { what: el("snap").selectedOptions[0].textContent }));
  },
};

// What acts at the cursor acts where one hears it while it plays; a selection that plays is what it acts on.
const AT_CURSOR = new Set(["mark", "from", "to", "section", "section-end", "restore", "phrase", "line", "around", "sentence", "pause-before", "pause-after", "sample-before", "sample-after"]);

function placeWhereHeard(name) {
  const at = playing() && AT_CURSOR.has(name) ? meantAt() : null;
  if (at !== null && (!store.selection || name === "mark")) store.place(at);
}

document.querySelector(".cutting-foot").addEventListener("click", (event) => {
  const name = event.target.closest("[data-do]")?.dataset.do;
  if (!name) return;
  placeWhereHeard(name);
  doers[name]();
  if (el("ask").hidden) scroller.focus({ preventScroll: true });
});

// --- Settings -------------------------------------------------------------------------------------------------

el("per-line").addEventListener("input", () => { store.set("perLine", Number(el("per-line").value)); showPerLine(); });
for (const [id, name] of [["snap", "snap"], ["speed", "speed"]]) {
  el(id).value = store.settings[name];
  el(id).addEventListener("change", () => (id === "speed" ? setSpeed(el(id).value) : store.set(name, el(id).value)));
}
el("reaction").value = store.settings.reaction_s;
el("reaction").addEventListener("change", () => {
  const seconds = Math.min(2, Math.max(0, Number(el("reaction").value) || 0));
  el("reaction").value = seconds;
  store.set("reaction_s", seconds);
});
for (const id of ["remains", "glass"]) {
  el(id).checked = store.settings[id];
  el(id).addEventListener("change", () => store.set(id, el(id).checked));
}

el("with-words").checked = store.settings.words !== false;
el("with-words").addEventListener("change", () => store.set("words", el("with-words").checked));

store.on("cursor pauses sound", showChosen);
store.on("cursor state sound", showButtons);
const asked = new URLSearchParams(location.search).get("at");
if (asked !== null) {
  store.place(Number(asked) * store.rate || 0);
  reveal(store.cursor);
}
showChosen();
showButtons();
showPerLine();
drawLens();
whenIdle(() => { if (document.activeElement === document.body) scroller.focus({ preventScroll: true }); });
