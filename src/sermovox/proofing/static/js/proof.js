// A proof sheet gone through by keys: from place to place, each heard and settled with one.

import "./hear.js";

let here = null; // the key of the place that has the focus
let place = 0; // and how far down it stands

const rows = () => [...document.querySelectorAll("[data-found]")];

function focus(at) {
  const all = rows();
  const row = all[Math.min(all.length - 1, Math.max(0, at))];
  if (!row) return;
  row.focus({ preventScroll: true });
  row.scrollIntoView({ block: "nearest" });
}

document.addEventListener("focusin", (event) => {
  const row = event.target.closest("[data-found]");
  if (!row) return;
  here = row.dataset.found;
  place = rows().indexOf(row);
});

const current = () => rows().find((row) => row.dataset.found === here) ?? rows()[0];

document.addEventListener("click", (event) => {
  const act = event.target.closest("[data-act]")?.dataset.act;
  if (act === undefined) return;
  const row = current();
  if (act === "next" || act === "before") {
    const at = rows().indexOf(row);
    return focus(here === null ? 0 : at + (act === "next" ? 1 : -1));
  }
  if (!row) return;
  if (act === "hear") row.querySelector("[data-hear-this]").click();
  else row.querySelector(`[data-as="${act}"]`)?.click();
});

document.addEventListener("keydown", (event) => {
  const row = event.target.closest("[data-found]");
  if (!row || event.target !== row || event.ctrlKey || event.metaKey || event.altKey) return;
  const ways = { ArrowDown: "next", ArrowUp: "before", Enter: "hear" };
  if (!ways[event.key]) return;
  event.preventDefault();
  document.querySelector(`[data-act="${ways[event.key]}"]`).click();
});

// What was settled goes; the one that stands in its place is next.
document.addEventListener("htmx:afterSwap", () => {
  if (here === null) return;
  const again = rows().findIndex((row) => row.dataset.found === here);
  focus(again >= 0 ? again : place);
});
