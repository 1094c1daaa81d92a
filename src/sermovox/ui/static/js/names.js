// The pattern as a row of parts and as text: either is changed, the other follows.

const form = document.querySelector("#names");
const pattern = form.querySelector("#pattern");
const WAIT_MS = 120;
let waiting = 0, dragged = null;

const parts = () => [...form.querySelectorAll(".part")];

function again(by) {
  form.elements.by.value = by;
  clearTimeout(waiting);
  waiting = setTimeout(() => {
    // Parts are numbered anew in the order they stand in.
    const open = parts().findIndex((part) => part.querySelector("details").open);
    form.elements.open.value = open < 0 ? "" : open;
    htmx.trigger(form, "again");
  }, WAIT_MS);
}

form.addEventListener("input", (event) => {
  if (event.target === pattern) again("pattern");
  else if (event.target.closest("#parts")) again("parts");
});

form.addEventListener("click", (event) => {
  const { put, pattern: whole } = event.target.closest("[data-put], button[data-pattern]")?.dataset ?? {};
  if (put) pattern.setRangeText(put, pattern.selectionStart, pattern.selectionEnd, "end");
  else if (whole !== undefined) pattern.value = whole;
  if (put || whole !== undefined) {
    if (pattern.offsetParent) pattern.focus();
    return again("pattern");
  }
  const part = event.target.closest(".part");
  if (event.target.closest("[data-away]")) {
    part.remove();
    again("parts");
  } else if (event.target.closest("[data-shift]")) shift(part, Number(event.target.closest("[data-shift]").dataset.shift));
});

function shift(part, by) {
  const other = parts()[parts().indexOf(part) + by];
  if (!other) return;
  if (by < 0) other.before(part);
  else other.after(part);
  again("parts");
}

form.addEventListener("keydown", (event) => {
  const by = { ArrowLeft: -1, ArrowUp: -1, ArrowRight: 1, ArrowDown: 1 }[event.key];
  const part = event.target.closest(".part");
  if (event.key === "Enter" && event.target.closest("#parts") && event.target.tagName !== "SUMMARY" && event.target.tagName !== "BUTTON") return event.preventDefault();
  if (!by || !event.altKey || !part || event.target.tagName !== "SUMMARY") return undefined;
  event.preventDefault();
  shift(part, by);
  event.target.focus();
});

// One part is open at a time.
form.addEventListener("toggle", (event) => {
  if (!event.target.open || !event.target.closest(".part")) return;
  for (const part of parts()) if (part !== event.target.parentNode) part.querySelector("details").open = false;
}, true);

form.addEventListener("dragstart", (event) => {
  dragged = event.target.closest?.(".part");
  event.dataTransfer.effectAllowed = "move";
  event.dataTransfer.setData("text/plain", "");
});
form.addEventListener("dragover", (event) => {
  const over = event.target.closest?.(".part");
  if (!dragged || !over || over === dragged) return;
  event.preventDefault();
  const box = over.getBoundingClientRect();
  if (event.clientX < box.left + box.width / 2) over.before(dragged);
  else over.after(dragged);
});
form.addEventListener("drop", (event) => event.preventDefault());
form.addEventListener("dragend", () => {
  if (dragged) again("parts");
  dragged = null;
});

document.addEventListener("htmx:afterSettle", () => {
  if (form.elements.by.value === "parts") pattern.value = document.querySelector("#parts").dataset.pattern;
});
