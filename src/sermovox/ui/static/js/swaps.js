// An answer may come late: what it should replace has been replaced by another. htmx would still take out of the page
// the boxes it keeps through every swap, and lose them. Such an answer is dropped; the next one tells how things are.

const guarded = new WeakSet();

document.addEventListener("htmx:beforeRequest", ({ detail: { target } }) => {
  if (!target || guarded.has(target)) return;
  guarded.add(target);
  target.addEventListener("htmx:beforeSwap", (event) => {
    if (event.target === target && !target.isConnected) event.detail.shouldSwap = false;
  });
});
