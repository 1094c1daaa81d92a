// The notes beside the page: what is on it, pauses, proposals, retakes and voices.

import { onCurve } from "../ink.js";
import { ask, edit } from "./edits.js";
import { reveal } from "./lines.js";
import { play } from "./sound.js";
import { clock, store, whenIdle } from "./store.js";
import { UNANSWERED, fetched } from "../asking.js";
import { figure, word } from "../words.js";

const WAIT_MS = 1000;
const el = (id) => document.getElementById(id);
const seconds = (samples) => figure(`${(samples / store.rate).toFixed(2)} s`);

function built(tag, text, more = {}) {
  return Object.assign(document.createElement(tag), { textContent: text, ...more });
}

// --- Contents -------------------------------------------------------------------------------------------------

const ROWS_AT_ONCE = 40;
let contentsAsked = 0;

function showContents() {
  const sections = store.state.sections.map((s) => ({ at: s.start, end: s.end, section: s }));
  const marks = store.state.marks.map((m) => ({ at: m.start_sample, end: m.end_sample, mark: m }));
  const rows = [...sections, ...marks].sort((a, b) => a.at - b.at || (a.section ? -1 : 1));
  let point = Infinity; // the first one that comes after a row
  for (const row of rows.toReversed()) {
    if (row.mark?.kind === "point") point = row.at;
    row.hasPoint = point < row.end;
  }
  contentsAsked += 1;
  addRows(rows, 0, contentsAsked);
  el("contents-none").hidden = rows.some((row) => row.mark) || sections.length > 1;
  const { waiting } = store.state;
  el("waiting-said").textContent = waiting > 1 ? word("{waiting} sections wait in the running order; they are named at once.", { waiting }) : waiting ? word("1 section waits in the running order; it is named at once.") : word("No section waits in the running order; new ones are made.");
}

// A few at a time, so that the page is never held up by its own list.
function addRows(rows, from, turn) {
  if (turn !== contentsAsked) return;
  const items = rows.slice(from, from + ROWS_AT_ONCE).map((row) => {
    const item = document.createElement("li");
    const name = row.section ? row.section.title : `${store.kinds[row.mark.kind].said}${row.mark.name ? ` “${row.mark.name}”` : ""}${row.mark.value_db ? ` ${row.mark.value_db} dB` : ""}`;
    const go = built("button", name, { type: "button", className: row.section ? "is-section" : "is-mark" });
    go.addEventListener("click", () => {
      store.select(row.at, row.end);
      if (row.at === row.end) store.place(row.at);
      reveal(row.at);
    });
    const time = built("span", clock(row.at), { className: "fig" });
    const length = built("span", row.end > row.at ? seconds(row.end - row.at) : "", { className: "fig faint" });
    const away = built("button", row.section ? word("free") : word("take away"), { type: "button", className: "quiet" });
    away.setAttribute("aria-label", row.section ? word("Free: the stretch of {title}", { title: row.section.title }) : word("Take away: {name} at {at}", { name, at: clock(row.at) }));
    away.addEventListener("click", () => (row.section ? edit("unsection", { section: row.section.section }) : edit("remove", { id: row.mark.id })));
    const more = built("span", "", { className: "more" });
    more.append(length, away);
    if (row.section) {
      const href = store.root.dataset.section.replace("/0/", `/${row.section.section}/`);
      more.append(built("a", word("programme"), { href }));
      if (row.hasPoint) more.append(" ", built("a", word("links and pictures"), { href: `${href}chapters/`, title: word("Of the chapter marks at its points") }));
    }
    item.append(time, go, more);
    return item;
  });
  if (from) el("contents").append(...items);
  else el("contents").replaceChildren(...items);
  if (from + ROWS_AT_ONCE < rows.length) setTimeout(() => addRows(rows, from + ROWS_AT_ONCE, turn), 30);
}

// --- Pauses ---------------------------------------------------------------------------------------------------

let level = null; // null: found from the noise
let pausesAsked = 0;

export const pauseSettings = () => ({ level_db: level, shortest_s: store.settings.shortest_s });

async function findPauses() {
  pausesAsked += 1;
  const turn = pausesAsked;
  const words = new URLSearchParams({ shortest_s: store.settings.shortest_s });
  if (level !== null) words.set("level_db", level);
  const { ok, status, body: found } = await fetched(`${store.address}pauses/?${words}`);
  if (!found || turn !== pausesAsked) return;
  if (!ok) {
    el("pauses-said").textContent = found.said;
    if (status === 422) setTimeout(findPauses, WAIT_MS * 3);
    return;
  }
  store.pauses = { ...found, starts: Float64Array.from(found.starts), ends: Float64Array.from(found.ends) };
  el("pauses-said").textContent = found.noise_db === null ? word("{count} pauses between words.", { count: found.between }) : word("{count} pauses between words, noise at {noise}.", { count: found.between, noise: `${found.noise_db} dB` });
  if (level === null && found.level_db !== null) el("pause-level").value = found.level_db;
  el("pause-level-said").textContent = found.level_db === null ? word("silence") : level === null ? word("{level}, found", { level: `${found.level_db.toFixed(1)} dB` }) : figure(`${found.level_db.toFixed(1)} dB`);
  store.tell("pauses");
}

el("pause-level").addEventListener("input", () => { level = Number(el("pause-level").value); findPauses(); });
el("pause-auto").addEventListener("click", () => { level = null; findPauses(); });
el("pause-shortest").addEventListener("input", () => {
  store.set("shortest_s", Number(el("pause-shortest").value));
  showShortest();
  findPauses();
});

function showShortest() {
  el("pause-shortest").value = store.settings.shortest_s;
  el("pause-shortest-said").textContent = figure(`${Number(store.settings.shortest_s).toFixed(2)} s`);
}

// --- Proposals ------------------------------------------------------------------------------------------------

const values = (form) => Object.fromEntries(new FormData(form));

function showProposal({ cuts = [], spans = [] }) {
  store.cuts = cuts;
  store.proposed = spans;
  el("split-do").disabled = !cuts.length;
  store.tell("proposals");
}

async function proposeSplit() {
  const asked = values(el("split"));
  const found = await ask("propose/", { ...pauseSettings(), by: asked.by, sections: Number(asked.sections), longer_than_s: Number(asked.longer_than_s), from_end: "from_end" in asked });
  el("split-said").textContent = found.said;
  el("split-said").classList.toggle("problem", !found.ok);
  el("split-odd").replaceChildren(...(found.odd ?? []).slice(0, 8).map((words) => Object.assign(document.createElement("li"), { textContent: words })));
  showSections(found);
  showProposal({ cuts: found.cuts ?? [] });
  if (found.cuts?.length) reveal(found.cuts[0]);
}

const AROUND_S = 3;
let byText = null; // the words that sections by the text were found from

// Each section of the text with its edges to be heard; the unsure ones come first.
function showSections({ sections = [], key = null }) {
  byText = key;
  const read = sections.filter((each) => each.span);
  const ordered = [...read.filter((each) => each.unsure.length), ...read.filter((each) => !each.unsure.length), ...sections.filter((each) => !each.span)];
  el("split-sections").replaceChildren(...ordered.map((each) => {
    const item = built("li", "");
    item.append(built("span", each.title, { className: "named" }));
    if (each.name) item.append(" ", built("span", each.name, { className: "fig small faint" }));
    for (const reason of each.unsure) item.append(built("span", reason, { className: "small verdict-remark" }));
    if (!each.span) return item;
    const [start, end] = each.span, around = AROUND_S * store.rate;
    for (const [label, from, to] of [[word("Hear its beginning, {at}", { at: clock(start) }), start, start + around], [word("Hear its end, {at}", { at: clock(end) }), end - around, end]]) {
      const hear = built("button", label, { type: "button", className: "quiet" });
      hear.addEventListener("click", () => {
        const [a, b] = [Math.max(start, from), Math.min(end, to)].map(Math.round);
        store.select(a, b);
        reveal(a);
        play(a, b);
      });
      item.append(hear);
    }
    return item;
  }));
}

el("split-show").addEventListener("click", proposeSplit);
el("split").addEventListener("change", () => { if (store.cuts.length) proposeSplit(); });
el("split").addEventListener("submit", async (event) => {
  event.preventDefault();
  if (!store.cuts.length) return proposeSplit();
  const done = byText ? edit("split-by-text", { key: byText }) : edit("split", { cuts: store.cuts, from_end: "from_end" in values(el("split")) });
  if (await done) {
    el("split-said").textContent = "";
    showSections({});
    el("split-odd").replaceChildren();
    showProposal({});
  }
});

const air = () => {
  const asked = values(el("air"));
  return { ...pauseSettings(), longer_than_s: Number(asked.longer_than_s), to_s: Number(asked.to_s) };
};
el("air-show").addEventListener("click", async () => {
  const found = await ask("propose/", { what: "shorten", ...air() });
  el("air-said").textContent = found.said;
  el("air-said").classList.toggle("problem", !found.ok);
  showProposal({ spans: found.spans ?? [] });
  if (found.spans?.length) reveal(found.spans[0][0]);
});
el("air").addEventListener("submit", async (event) => {
  event.preventDefault();
  if (await edit("shorten", air())) showProposal({});
  el("air-said").textContent = "";
});

// --- Retakes --------------------------------------------------------------------------------------------------

let retakes = [];

async function findRetakes() {
  for (;;) {
    const { status, body: found } = await fetched(`${store.address}retakes/`);
    if (!found) {
      el("retakes-said").textContent = UNANSWERED;
      return;
    }
    if (status === 202) {
      el("retakes-said").textContent = found.said;
      await new Promise((wake) => setTimeout(wake, WAIT_MS));
      continue;
    }
    retakes = found.retakes ?? [];
    el("retakes-said").textContent = found.said ?? (retakes.length > 1 ? word("{count} lines were spoken more than once. The last whole take is chosen; the others would be struck out.", { count: retakes.length }) : retakes.length ? word("1 line was spoken more than once. The last whole take is chosen; the others would be struck out.") : word("No line was spoken twice in a row."));
    showRetakes();
    return;
  }
}

async function drawTake(canvas, start, end) {
  const { status, body } = await fetched(`${store.root.dataset.waveform}?start=${start}&end=${end}&columns=${canvas.width}`, "bytes");
  if (status !== 200) return;
  const pairs = new Int8Array(body);
  const pen = canvas.getContext("2d");
  pen.fillStyle = getComputedStyle(canvas).getPropertyValue("--ink");
  for (let x = 0; x < canvas.width; x += 1) {
    const pair = Math.floor((x / canvas.width) * (pairs.length / 2));
    const reach = onCurve(Math.max(Math.abs(pairs[2 * pair]), Math.abs(pairs[2 * pair + 1])) / 127 / store.loudest);
    pen.fillRect(x, canvas.height * (0.5 - reach / 2), 1, Math.max(1, reach * canvas.height));
  }
}

function showRetakes() {
  el("retakes-strike").hidden = !retakes.length;
  el("retakes").replaceChildren(...retakes.map((line, number) => {
    const set = built("fieldset", "", { className: "takes" });
    set.append(built("legend", word("Line at {at}", { at: clock(line.takes[0].start_s * store.rate) }), { className: "small" }));
    line.takes.forEach((take, at) => {
      const [start, end] = [take.start_s, take.end_s].map((edge) => Math.min(store.frames, Math.round(edge * store.rate)));
      const box = built("div", "", { className: "take" });
      const canvas = Object.assign(document.createElement("canvas"), { width: 118, height: 34 });
      canvas.setAttribute("aria-hidden", "true");
      const label = document.createElement("label");
      const radio = Object.assign(document.createElement("input"), { type: "radio", name: `take-${number}`, value: at, checked: at === line.proposed });
      label.append(radio, ` ${take.whole ? word("take {number}", { number: at + 1 }) : word("false start")}, ${seconds(end - start)}`);
      const hear = built("button", word("Hear it"), { type: "button", className: "quiet" });
      hear.addEventListener("click", () => { store.select(start, end); reveal(start); play(start, end); });
      box.append(canvas, label, hear);
      set.append(box);
      drawTake(canvas, start, end);
    });
    return set;
  }));
}

el("retakes-find").addEventListener("click", findRetakes);
el("retakes-strike").addEventListener("click", async () => {
  const spans = [];
  retakes.forEach((line, number) => {
    const kept = Number(document.querySelector(`input[name=take-${number}]:checked`).value);
    line.takes.forEach((take, at) => {
      if (at === kept) return;
      // With the pause that follows, so that one pause stays between the lines.
      const next = line.takes[at + 1]?.start_s ?? take.end_s;
      const end = at < kept ? next : take.end_s;
      const start = at < kept ? take.start_s : line.takes[at - 1].end_s;
      spans.push([start, end].map((edge) => Math.min(store.frames, Math.round(edge * store.rate))));
    });
  });
  if (await edit("marks", { spans })) el("retakes-strike").hidden = true;
});

// --- Voices ---------------------------------------------------------------------------------------------------

function showVoices() {
  const { lanes } = store.state;
  const { sides } = store.state;
  el("voices-match").hidden = !lanes.length;
  el("voices-more").hidden = !lanes.length && !sides;
  if (el("sides")) {
    el("sides").checked = Boolean(sides);
    el("sides-gain").value = sides?.gain_db ?? "";
    el("sides-more").hidden = !sides;
  }
  el("separate").checked = store.state.separate;
  el("voices").replaceChildren(...lanes.map((lane) => {
    const item = built("li", "");
    const number = (label, value, step) => {
      const box = built("label", `${label} `, { className: "small" });
      box.append(Object.assign(document.createElement("input"), { type: "number", step, value, className: "form-control inline number" }));
      return box;
    };
    const later = number(word("begins later by, s"), (lane.offset_samples / store.rate).toFixed(3), 0.001);
    const gain = number(word("gain, dB"), lane.gain_db, 0.1);
    const set = () => edit("lane-set", { recording: lane.recording, offset_s: Number(later.lastChild.value), gain_db: Number(gain.lastChild.value) });
    for (const box of [later, gain]) box.lastChild.addEventListener("change", set);
    const away = built("button", word("take away"), { type: "button", className: "quiet" });
    away.addEventListener("click", () => edit("lane-remove", { recording: lane.recording }));
    item.append(built("strong", lane.name), later, gain, away);
    return item;
  }));
}

el("voice-add").addEventListener("submit", (event) => {
  event.preventDefault();
  edit("lane-add", { recording: Number(values(event.target).recording) });
});
el("sides")?.addEventListener("change", (event) => edit("sides", { apart: event.target.checked }));
el("sides-gain")?.addEventListener("change", (event) => edit("sides", { apart: true, gain_db: Number(event.target.value) }));
el("voices-match").addEventListener("click", () => edit("lanes-match"));
el("separate").addEventListener("change", (event) => edit("separate", { separate: event.target.checked }));

// --------------------------------------------------------------------------------------------------------------

for (const note of document.querySelectorAll("#notes details")) {
  note.addEventListener("toggle", () => { if (!note.open && ["split", "air"].includes(note.dataset.note)) showProposal({}); });
}

store.on("state", () => { showContents(); showVoices(); });
showShortest();
findPauses();
// The lines come first.
whenIdle(() => { showContents(); showVoices(); });
