// An answer may come late: what it should replace has been replaced by another. htmx would still take out of the page
// the boxes it keeps through every swap, and lose them. Such an answer is dropped; the next one tells how things are.

// What had the focus has it again after a swap, or what stands in its place; it never falls to the top of the page.

const ANSWERED_WITHIN_MS = 30000;
const guarded = new WeakSet();
let lost = null; // what had the focus before it was swapped away: ways to find it again, the best first

const quoted = (text) => CSS.escape(text);

function waysTo(element) {
  const ways = element.id ? [`#${quoted(element.id)}`] : [];
  const tag = element.localName;
  for (const name of ["data-change-do", "data-row-do", "hx-vals", "data-key", "href", "aria-label"]) {
    if (element.hasAttribute(name)) ways.push(`${tag}[${name}="${quoted(element.getAttribute(name))}"]`);
  }
  if (element.name) ways.push(`${tag}[name="${quoted(element.name)}"][value="${quoted(element.getAttribute("value") ?? "")}"]`, `${tag}[name="${quoted(element.name)}"]`);
  return ways;
}

document.addEventListener("htmx:beforeSwap", ({ detail: { target } }) => {
  const focused = document.activeElement;
  if (target?.contains(focused) && focused !== document.body) lost = { ways: waysTo(focused), within: target.id };
});
document.addEventListener("htmx:afterSettle", () => {
  if (!lost) return;
  const { ways, within } = lost;
  lost = null;
  if (document.activeElement !== document.body) return;
  const again = ways.map((way) => document.querySelector(way)).find((element) => element && !element.disabled);
  const place = again ?? (within && document.getElementById(within)) ?? document.querySelector("h1");
  if (!place) return;
  if (!again && place.tabIndex < 0) place.tabIndex = -1;
  place.focus({ preventScroll: true });
});

// What a page asks again and again by itself is not held up for ever by one answer that never comes.
document.addEventListener("htmx:beforeSend", ({ detail: { xhr, requestConfig } }) => {
  if (requestConfig.verb === "get" && !requestConfig.triggeringEvent) xhr.timeout = ANSWERED_WITHIN_MS;
});

document.addEventListener("htmx:beforeRequest", ({ detail: { target } }) => {
  if (!target || guarded.has(target)) return;
  guarded.add(target);
  target.addEventListener("htmx:beforeSwap", (event) => {
    if (event.target === target && !target.isConnected) event.detail.shouldSwap = false;
  });
});
