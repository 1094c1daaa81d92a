// Swapping in place: of what the server draws anew, only what it draws otherwise now is changed on the page. A list of
// hundreds of rows then costs as much as the rows that are new, and what has the focus keeps it.

// Of a box: what it is at first is said by the server, then by the reader.
const OWN = ["checked", "data-chosen"];

const drawnRows = () => [...document.querySelectorAll("tr[data-drawn]")];
const isKnown = (node) => node.dataset?.known !== undefined;
let missing = false; // the server takes a row for known that is another or not here any more: an answer came late

const callbacks = {
  beforeNodeMorphed(old, fresh) {
    const same = old.dataset?.drawn && old.dataset.drawn === fresh.dataset?.drawn;
    missing ||= isKnown(fresh) && !same;
    return !old.hasAttribute?.("data-own") && !same && !isKnown(fresh);
  },
  beforeAttributeUpdated: (name, node) => !(node.localName === "input" && OWN.includes(name)),
  beforeNodeAdded(node) {
    missing ||= isKnown(node);
    return !isKnown(node);
  },
};

// A row was changed on the page: the server draws it in any case.
export const touched = (row) => row.removeAttribute("data-drawn");

// What the page shows may not be so: ask for the rows whatever they are.
export const forget = (list) => list.setAttribute("hx-get", list.getAttribute("hx-get").replace(/seen=\w+/, "seen="));

function handleSwap(style, target, fragment) {
  if (style !== "in-place") return false;
  missing = false;
  const there = Idiomorph.morph(target, fragment.children, { morphStyle: "outerHTML", callbacks });
  if (missing) forget(target);
  return there;
}

htmx.defineExtension("in-place", { isInlineSwap: (style) => style === "in-place", handleSwap });
// Also what the page asks for, and no element of it.
document.body.setAttribute("hx-ext", "in-place");
document.addEventListener("htmx:configRequest", ({ detail }) => {
  const { elt, target, headers } = detail;
  if (target.id === "rows") headers["X-Drawn"] = drawnRows().map((row) => row.dataset.drawn).join(",");
  // As it says now: htmx keeps the address that it said when it was drawn.
  if (elt.id === "rows" && detail.verb === "get") detail.path = elt.getAttribute("hx-get");
});
