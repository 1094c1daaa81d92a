// Levels of a book: rows that open, and its sections as columns, told by pointing and ticked by dragging.

document.addEventListener("click", (event) => {
  if (event.target.id === "all") {
    for (const box of document.querySelectorAll("#rows [name=section]")) box.checked = event.target.checked;
    return showTicks();
  }
  const row = event.target.closest(".levels tr[data-address]");
  if (row && !event.target.closest("a, input")) window.location = row.dataset.address;
  return undefined;
});

const columns = () => [...document.querySelectorAll("#rows .column")];
const boxOf = (column) => document.querySelector(`#rows [name=section][value="${column.dataset.section}"]`);
let from = -1, ticking = true, pointed = -1;

function point(number) {
  const all = columns();
  if (!all.length) return;
  pointed = number;
  all.forEach((column, at) => column.classList.toggle("pointed", at === number));
  const told = document.querySelector("#column-said");
  told.textContent = all[number]?.dataset.said ?? told.dataset.empty;
}

function tick(first, last) {
  columns().slice(Math.min(first, last), Math.max(first, last) + 1).forEach((column) => {
    const box = boxOf(column);
    if (box) box.checked = ticking;
  });
  showTicks();
}

function showTicks() {
  for (const column of columns()) column.classList.toggle("ticked", Boolean(boxOf(column)?.checked));
}

const columnAt = (event) => columns().indexOf(event.target.closest?.(".column"));
document.addEventListener("pointerdown", (event) => {
  from = columnAt(event);
  if (from < 0) return;
  ticking = !boxOf(columns()[from])?.checked;
  tick(from, from);
});
document.addEventListener("pointermove", (event) => {
  const at = columnAt(event);
  if (at < 0) return pointed >= 0 && !event.target.closest?.(".columns-of") ? point(-1) : undefined;
  if (at !== pointed) point(at);
  if (from >= 0) tick(from, at);
});
document.addEventListener("pointerup", () => { from = -1; });
document.addEventListener("dblclick", (event) => {
  const { address } = event.target.closest?.(".column")?.dataset ?? {};
  if (address) window.location = address;
});
document.addEventListener("keydown", (event) => {
  if (!event.target.closest?.(".columns-of")) return;
  const all = columns();
  const step = { ArrowLeft: -1, ArrowRight: 1, Home: -all.length, End: all.length }[event.key];
  if (step) point(Math.max(0, Math.min(all.length - 1, pointed + step)));
  else if (event.key === " " && pointed >= 0) {
    ticking = !boxOf(all[pointed])?.checked;
    tick(pointed, pointed);
  } else if (event.key === "Enter" && all[pointed]?.dataset.address) window.location = all[pointed].dataset.address;
  else return;
  event.preventDefault();
  event.stopPropagation();
});
document.addEventListener("change", (event) => { if (event.target.closest?.("#rows")) showTicks(); });
document.addEventListener("htmx:afterSwap", showTicks);
