// The running order: what is chosen, moving rows by drag and by key, pairing by drag, and changes that can be undone.

import { posted } from "./asking.js";
import { forget, touched } from "./inplace.js";
import { word } from "./words.js";

const form = document.querySelector("#order");
const menu = document.querySelector("#row-menu");
const rows = () => [...form.querySelectorAll("tr[data-section]")];
const rowOf = (section) => form.querySelector(`tr[data-section="${section}"]`);
const RESTS = 10;
let current = null; // the section of the row that has or had the focus
let dragged = null; // { section } or { recording }
let drawing = 0; // when the rows that are being drawn anew began to be
let restsUntil = 0; // until when they are not drawn anew by themselves
let pressed = false; // the mouse is down on something that can be dragged

// --- What is chosen -------------------------------------------------------------------------------------------

const cellOf = (row, outlet) => row.querySelector(`td[data-outlet="${outlet.value}"]`);
const isDone = (row, outlet) => Boolean(cellOf(row, outlet)?.dataset.done);
const isUpToDate = (row, outlet) => cellOf(row, outlet)?.dataset.done === "yes";
const boxOf = (row) => row.querySelector("input[name=section]:not(:disabled)");

// At first what is new, changed or failed is ticked; what somebody ticks or unticks stays as it is.
function propose(outlets) {
  for (const row of rows()) {
    const box = boxOf(row);
    if (box && !("chosen" in box.dataset)) box.checked = !outlets.length || outlets.some((outlet) => !isDone(row, outlet));
  }
}

function show() {
  const button = document.querySelector("#make");
  if (!button) return;
  const outlets = [...form.querySelectorAll("input[name=outlet]:checked")];
  propose(outlets);
  const everywhere = form.querySelector("#everywhere");
  const here = rows().filter((row) => boxOf(row)?.checked);
  for (const cell of form.querySelectorAll("[data-outlet]")) {
    cell.classList.toggle("chosen", outlets.some((outlet) => outlet.value === cell.dataset.outlet));
  }
  const picked = everywhere?.checked || here.length > 0;
  button.disabled = !picked || !outlets.length;
  for (const other of document.querySelectorAll("#order [name=look], #order [formaction]")) other.disabled = button.disabled;
  button.hidden = button.disabled && document.querySelector("[data-pair]") !== null;
  button.textContent = button.disabled ? said(outlets, picked) : counted(outlets, here, everywhere?.checked && everywhere);
  const all = form.querySelector("#all");
  if (all) all.checked = here.length > 0 && here.length === form.querySelectorAll("input[name=section]:not(:disabled)").length;
  const focused = rowOf(current) ?? rows()[0];
  if (focused) focused.tabIndex = 0;
}

document.addEventListener("change", (event) => {
  if (event.target.name === "section") event.target.dataset.chosen = "yes";
  if (event.target.id === "all") {
    for (const box of form.querySelectorAll("input[name=section]:not(:disabled)")) {
      box.checked = event.target.checked;
      box.dataset.chosen = "yes";
    }
  }
  show();
});

// What stands on the button while there is nothing to make.
function said(outlets, picked) {
  if (picked) return word("Choose an outlet");
  const boxes = rows().filter(boxOf);
  const done = outlets.length && boxes.length && boxes.every((row) => outlets.every((outlet) => isDone(row, outlet)));
  return done ? word("All are up to date") : word("Choose sections to make");
}

// How many files are to be made, and how many are left alone because they are up to date.
function counted(outlets, here, everywhere) {
  const counts = everywhere ? JSON.parse(everywhere.dataset.counts) : null;
  let files = 0, done = 0;
  for (const outlet of outlets) {
    if (counts) {
      files += counts[outlet.value][0];
      done += counts[outlet.value][1];
    } else if ("joined" in outlet.dataset) {
      const isMade = here.length > 0 && isDone(here[0], outlet);
      files += isMade ? 0 : 1;
      done += here.length > 0 && isUpToDate(here[0], outlet) ? 1 : 0;
    } else {
      files += here.filter((row) => !isDone(row, outlet)).length;
      done += rows().filter((row) => boxOf(row) && isUpToDate(row, outlet)).length;
    }
  }
  const outlet = outlets.length === 1 ? outlets[0].dataset.title : word("{count} outlets", { count: outlets.length });
  // Somebody ticked what is up to date: whether it is to be made again is asked first.
  if (!files) return word("Make again for {outlet}", { outlet });
  const joined = outlets.length === 1 && "joined" in outlets[0].dataset;
  const make = joined ? word("Make one file for {outlet}", { outlet }) : files === 1 ? word("Make 1 file for {outlet}", { outlet }) : word("Make {files} files for {outlet}", { files, outlet });
  return done ? `${make} ${done === 1 ? word("(1 is up to date)") : word("({done} are up to date)", { done })}` : make;
}

// --- Changes --------------------------------------------------------------------------------------------------

let waiting = 0; // how many changes the server has not answered yet
let answered = 0; // how many it has
let line = Promise.resolve();

// One after the other, as they were made; then the rows are looked at anew.
function inTurn(work) {
  waiting += 1;
  line = line.then(work).catch(() => forget(form.querySelector("#rows"))).finally(() => {
    waiting -= 1;
    answered += 1;
    if (!waiting) htmx.trigger("#rows", "again");
  });
  return line;
}

function change(values) {
  return inTurn(() => {
    const list = form.querySelector("#rows");
    return htmx.ajax("POST", list.dataset.change, { target: "#rows", swap: "in-place", values: { page: list.dataset.page, ...values } });
  });
}

// A row is moved on the page at once, then in the running order.
function move(section, before) {
  const row = rowOf(section);
  const follower = before ? rowOf(before) : null;
  if (!row || before === section || row.nextElementSibling === follower) return;
  const numbers = rows().map((r) => r.querySelector(".grip").textContent);
  row.parentElement.insertBefore(row, follower);
  rows().forEach((r, at) => {
    r.querySelector(".grip").textContent = numbers[at];
    touched(r);
  });
  row.focus();
  // Where the page ends, the running order may go on.
  const list = form.querySelector("#rows");
  const body = new URLSearchParams({ do: "move", section, before: before ?? list.dataset.following });
  return inTurn(async () => {
    const { ok } = await posted(list.dataset.change, body, "text");
    if (!ok) forget(list);
  });
}

const doers = {
  up: (row) => row.previousElementSibling && move(row.dataset.section, row.previousElementSibling.dataset.section),
  down: (row) => row.nextElementSibling && move(row.dataset.section, row.nextElementSibling.nextElementSibling?.dataset.section),
  bring: (row) => dispatchEvent(new CustomEvent("bring", { detail: row.dataset.section })),
  unpair: (row) => change({ do: "assign", section: row.dataset.section, recording: "" }),
};

function act(name) {
  const row = rowOf(current);
  if (!row) return say(word("Choose a row first: Tab to the list, then the arrow keys."));
  const { section } = row.dataset;
  // The row that comes to stand there has the focus then.
  if (name === "remove") current = (row.nextElementSibling ?? row.previousElementSibling)?.dataset.section ?? current;
  return doers[name] ? doers[name](row) : change({ do: name, section });
}

function say(text) {
  const line = document.querySelector("#said");
  line.textContent = text;
  line.hidden = false;
}

document.addEventListener("click", (event) => {
  const doing = event.target.closest("[data-change-do]");
  if (doing) {
    const { changeDo, ...own } = doing.dataset;
    const section = changeDo === "add" && rowOf(current) ? current : "";
    // What else is asked for with it: "sections", or the one "section" and "as_treated".
    const asked = Object.fromEntries(["sections", "section", "as_treated"].filter((name) => name in own).map((name) => [name, own[name]]));
    change({ do: changeDo, section, ...asked });
  }
  const next = event.target.closest("[data-next]")?.dataset.next;
  if (next === "bring") document.querySelector("[data-bring]").click();
  if (next === "make") document.querySelector("#make").click();
  const opener = event.target.closest("[data-row-menu]");
  if (opener) {
    current = opener.closest("tr").dataset.section;
    const box = opener.getBoundingClientRect();
    menu.showPopover();
    menu.style.top = `${Math.min(box.bottom + 2, innerHeight - menu.offsetHeight - 8)}px`;
    menu.style.left = `${Math.max(8, box.right - menu.offsetWidth)}px`;
    menu.querySelector("button").focus();
  }
  const chosen = event.target.closest("[data-row-do]");
  if (chosen) {
    if (menu.matches(":popover-open")) menu.hidePopover();
    act(chosen.dataset.rowDo);
  }
});

// --- Keys -----------------------------------------------------------------------------------------------------

form.addEventListener("focusin", (event) => {
  const row = event.target.closest("tr[data-section]");
  if (!row) return;
  for (const other of rows()) other.tabIndex = -1;
  row.tabIndex = 0;
  current = row.dataset.section;
});

form.addEventListener("keydown", (event) => {
  const row = event.target.closest("tr[data-section]");
  const step = { ArrowUp: "previousElementSibling", ArrowDown: "nextElementSibling" }[event.key];
  if (row && step && event.target.type !== "radio") {
    event.preventDefault();
    if (event.altKey) doers[event.key === "ArrowUp" ? "up" : "down"](row);
    else row[step]?.focus();
  }
  if (row && event.target === row && event.key === "Enter") {
    event.preventDefault();
    row.querySelector("a.title").click();
  }
  if (row && event.target === row && event.key === " ") {
    event.preventDefault();
    row.querySelector("input[name=section]").click();
  }
});

menu.addEventListener("keydown", (event) => {
  const items = [...menu.querySelectorAll("button")];
  const at = items.indexOf(document.activeElement);
  const to = { ArrowDown: at + 1, ArrowUp: at - 1, Home: 0, End: items.length - 1 }[event.key];
  if (to === undefined) return;
  event.preventDefault();
  items[(to + items.length) % items.length].focus();
});

document.addEventListener("keydown", (event) => {
  if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "z") return;
  if (event.target.closest("input:not([type=checkbox]):not([type=radio]), textarea, select")) return;
  event.preventDefault();
  document.querySelector(`[data-change-do="${event.shiftKey ? "redo" : "undo"}"]`)?.click();
});

// --- Dragging -------------------------------------------------------------------------------------------------

const clear = () => {
  for (const row of form.querySelectorAll(".drop-before, .drop-after, .drop-on")) row.classList.remove("drop-before", "drop-after", "drop-on");
};

document.addEventListener("pointerdown", (event) => { pressed = event.target.closest("[draggable=true]") !== null; });
for (const name of ["pointerup", "pointercancel"]) document.addEventListener(name, () => { pressed = false; });

document.addEventListener("dragstart", (event) => {
  const recording = event.target.closest?.("[data-recording]");
  const grip = event.target.closest?.(".grip");
  if (!recording && !grip) return;
  dragged = recording ? { recording: recording.dataset.recording } : { section: grip.closest("tr").dataset.section };
  event.dataTransfer.effectAllowed = "move";
  event.dataTransfer.setData("text/plain", (recording ?? grip.closest("tr").querySelector(".title")).textContent);
  if (grip) event.dataTransfer.setDragImage(grip.closest("tr"), 20, 20);
});

form.addEventListener("dragover", (event) => {
  const row = event.target.closest("tr[data-section]");
  if (!dragged || !row) return;
  event.preventDefault();
  clear();
  const box = row.getBoundingClientRect();
  row.classList.add(dragged.recording ? "drop-on" : event.clientY < box.top + box.height / 2 ? "drop-before" : "drop-after");
});

form.addEventListener("drop", (event) => {
  const row = event.target.closest("tr[data-section]");
  if (!dragged || !row) return;
  event.preventDefault();
  const before = row.classList.contains("drop-after") ? row.nextElementSibling?.dataset.section : row.dataset.section;
  const { section, recording } = dragged;
  dragged = null;
  clear();
  if (recording) change({ do: "assign", section: row.dataset.section, recording });
  else move(section, before);
});

document.addEventListener("dragend", () => { dragged = null; clear(); });

// While something is dragged, the menu is open or changes are on their way, the rows stay as they are.
const held = (event) => event.detail.requestConfig.verb === "get" && (waiting || pressed || dragged || menu.matches(":popover-open"));
// Drawing hundreds of rows keeps the page from answering: asked by nobody, it leaves the page alone for so many times as long.
const resting = ({ detail: { requestConfig } }) => requestConfig.verb === "get" && !requestConfig.triggeringEvent && performance.now() < restsUntil;
// Rows that were asked for before a change was answered may be those before it.
const isLate = ({ verb, askedAfter }) => verb === "get" && askedAfter !== answered;
document.addEventListener("htmx:beforeRequest", (event) => {
  event.detail.requestConfig.askedAfter = answered;
  if (event.target.id === "rows" && (held(event) || resting(event))) event.preventDefault();
});
document.addEventListener("htmx:beforeSwap", (event) => {
  if (event.target.id !== "rows") return;
  if (held(event) || isLate(event.detail.requestConfig)) event.detail.shouldSwap = false;
  if (event.detail.shouldSwap) drawing = performance.now();
});
document.addEventListener("htmx:afterSettle", ({ target }) => {
  if (target.id !== "rows") return;
  show();
  const began = drawing;
  requestAnimationFrame(() => setTimeout(() => { restsUntil = performance.now() + RESTS * (performance.now() - began); }));
});
// At once, so that no key is lost between.
document.addEventListener("htmx:afterSwap", () => {
  if (document.activeElement === document.body && rowOf(current)) rowOf(current).focus({ preventScroll: true });
});
show();
