// The text beside the page: how far its words are found, finding some of them, and lines that were read again.

import { edit } from "./edits.js";
import { reveal } from "./lines.js";
import { play } from "./sound.js";
import { clock, store, whenIdle } from "./store.js";
import { find, stretch, words } from "./script.js";
import { fetched, posted } from "../asking.js";
import { figure, word } from "../words.js";

const WAIT_MS = 1000;
const el = (id) => document.getElementById(id);
let waiting = 0;

function built(tag, text, more = {}) {
  return Object.assign(document.createElement(tag), { textContent: text, ...more });
}

// --- How far the words are found ------------------------------------------------------------------------------

async function look(known = words.state.state === "heard" && words.rows ? words.state.key : "") {
  clearTimeout(waiting);
  const { status, body } = await fetched(`${store.address}words/?known=${known}&so_far=${words.state.so_far ?? ""}`);
  if (status === 200) words.take(body);
  else if (!status) waiting = setTimeout(look, WAIT_MS * 4);
}

async function listen(doing) {
  const { ok, body } = await posted(`${store.address}words/listen/`, new URLSearchParams({ do: doing }));
  if (ok) words.take(body);
}

function showState() {
  const { state, share = 0, left_s: left, said } = words.state;
  const told = {
    none: word("This page has no text yet. Give it the text that was read, and each word is shown under its ink."),
    waiting: word("The words are found as soon as a worker is free."),
    listening: left ? word("Finding the words: {share} %, {left} s left.", { share: Math.round(share * 100), left: Math.ceil(left) }) : word("Finding the words: {share} %.", { share: Math.round(share * 100) }),
    left: word("The words are not looked for."),
    heard: heardInWords(),
  };
  el("text-said").textContent = told[state] ?? said;
  el("text-said").classList.toggle("problem", ["refused", "another", "unspoken"].includes(state));
  const working = state === "waiting" || state === "listening";
  el("text-bar").hidden = !working;
  el("text-bar").value = share;
  el("text-leave").hidden = !working;
  el("text-again").hidden = !["left", "refused"].includes(state);
  el("find").disabled = !words.rows;
  if (working) waiting = setTimeout(look, WAIT_MS);
}

function heardInWords() {
  const count = words.rows?.starts.length ?? 0;
  return word("{count} words are under their ink. Those that are dim are unsure; a dotted line in pencil is a reading that does not count.", { count });
}

el("text-leave").addEventListener("click", () => listen("leave"));
el("text-again").addEventListener("click", () => listen("again"));
el("text-away")?.addEventListener("click", async () => { if (await edit("text-away")) location.reload(); });

// --- Finding words --------------------------------------------------------------------------------------------

let places = [], place = -1;

function goTo(number) {
  if (!places.length) return;
  place = (number + places.length) % places.length;
  const { start, end } = stretch(...places[place]);
  // The cursor stands where they begin, so that a section can begin there.
  store.select(end, start);
  reveal(start);
  showFound();
}

function showFound() {
  el("found").textContent = !el("find").value.trim() ? "" : places.length ? word("{number} of {count}", { number: place + 1, count: places.length }) : word("not on this page");
}

el("find").addEventListener("input", () => {
  places = find(el("find").value);
  place = -1;
  const next = places.findIndex(([first]) => words.rows.starts[first] >= Math.min(store.cursor, store.anchor ?? Infinity));
  if (places.length) goTo(Math.max(0, next));
  else showFound();
});
el("find").addEventListener("keydown", (event) => {
  if (event.key === "Enter") {
    event.preventDefault();
    goTo(place + (event.shiftKey ? -1 : 1));
  }
  if (event.key === "Escape") {
    event.stopPropagation();
    el("scroller").focus({ preventScroll: true });
  }
});

// --- Lines that were read again -------------------------------------------------------------------------------

const struck = (start, end) => {
  let gone = 0;
  for (const mark of store.state.marks) {
    if (mark.kind === "strike" || mark.kind === "pickup") gone += Math.max(0, Math.min(end, mark.end_sample) - Math.max(start, mark.start_sample));
  }
  return gone > (end - start) / 2;
};

function readAgain() {
  const lines = new Map();
  words.readings.forEach((reading, number) => {
    const own = { ...reading, number, start: words.rows.starts[reading.first], end: words.rows.ends[reading.stop - 1] };
    lines.set(reading.line, [...(lines.get(reading.line) ?? []), own]);
  });
  return [...lines.values()].filter((readings) => readings.length > 1);
}

function showReadAgain() {
  const wanted = words.state.state === "heard" && words.rows;
  el("retakes-by-words").hidden = !wanted;
  el("retakes-by-sound").hidden = Boolean(wanted);
  if (!wanted) return;
  const lines = readAgain();
  const open = lines.flatMap((readings) => readings.filter((each) => !each.counts && !struck(each.start, each.end)));
  el("again-said").textContent = lines.length === 1 ? word("1 sentence was read more than once.") : lines.length ? word("{count} sentences were read more than once.", { count: lines.length }) : word("Every sentence was read once.");
  el("again-strike").hidden = !open.length;
  el("again").replaceChildren(...lines.map(readingsOf));
}

function readingsOf(readings) {
  const set = built("fieldset", "", { className: "takes by-words" });
  set.append(built("legend", words.state.lines[readings[0].line].join(" "), { className: "small" }));
  const kept = readings.filter((each) => !struck(each.start, each.end));
  for (const reading of readings) {
    const row = built("div", "", { className: "reading" });
    const said = words.rows.texts.slice(reading.first, reading.stop).join(" ");
    const gone = struck(reading.start, reading.end);
    const pace = ((reading.stop - reading.first) / ((reading.end - reading.start) / store.rate)) * 60;
    const level = words.state.levels?.[reading.number];
    const told = [clock(reading.start), figure(`${((reading.end - reading.start) / store.rate).toFixed(2)} s`), word("{pace} words a minute", { pace: Math.round(pace) }), ...(level === undefined ? [] : [figure(`${level.toFixed(1)} dB`.replace("-", "−"))])];
    const facts = built("span", told.join(" · "), { className: "fig small faint" });
    const hear = built("button", word("Hear it"), { type: "button", className: "quiet" });
    hear.addEventListener("click", () => {
      const { start, end } = stretch(reading.first, reading.stop - 1);
      store.select(start, end);
      reveal(start);
      play(start, end);
    });
    row.append(built(gone ? "s" : "span", reading.whole ? word("all of it") : said, { className: "said-words" }), facts, hear);
    if (gone || kept.length > 1) {
      const keep = built("button", word("Keep this reading"), { type: "button", className: "quiet" });
      keep.addEventListener("click", () => edit("keep-reading", { reading: reading.number, key: words.state.key }));
      row.append(" ", keep);
    } else row.append(" ", built("span", word("stays"), { className: "small faint" }));
    set.append(row);
  }
  return set;
}

el("again-strike").addEventListener("click", () => edit("false-starts", { key: words.state.key }));

// --------------------------------------------------------------------------------------------------------------

let seen = JSON.stringify([store.state.sections.map((each) => each.section), store.state.text]);
store.on("state", () => {
  const now = JSON.stringify([store.state.sections.map((each) => each.section), store.state.text]);
  if (now !== seen) look();
  seen = now;
  whenIdle(showReadAgain);
});
store.on("text", showState);
store.on("words", () => {
  places = [];
  showFound();
  showState();
  showReadAgain();
});
showState();
// What came with the page are the first lines; the rest follows.
whenIdle(() => { if (words.state.state === "heard") look(""); });
