// A page's line to the worker that sends recordings. One worker serves all pages; where the browser lets it outlive
// the page that started it, moving about in Sermovox breaks nothing off.

import { word } from "./words.js";

const SCRIPT = new URL("uploads.js", import.meta.url);
const MARK = "sending";

let port;
let lasting = false;
let busy = false;
let staysInside = false;
const listeners = [];

function open() {
  if (port) return;
  if ("SharedWorker" in window) {
    const lives = { name: "uploads", get extendedLifetime() { lasting = true; return true; } };
    port = new SharedWorker(SCRIPT, lives).port;
  } else {
    port = new Worker(SCRIPT);
  }
  port.onmessage = ({ data }) => {
    busy = data.count > 0;
    if (busy) localStorage.setItem(MARK, "yes"); else localStorage.removeItem(MARK);
    for (const listener of listeners) listener(data);
  };
}

// Calls back whenever something changes, with what is open of all, and of each place what is open and shown.
export function listen(listener) {
  listeners.push(listener);
  open();
}

export function tell(message) {
  open();
  port.postMessage(message);
}

// Whether what is sent goes on while the page is left for another one of Sermovox.
export const outlives = () => lasting;

// Leave for another page of Sermovox without being asked about what is being sent.
export function leaveFor(address) {
  staysInside = true;
  location.assign(address);
}

export const somethingIsSent = () => localStorage.getItem(MARK) !== null;

// How many are open, how far they are, and what to say of it.
export function together({ count, bytes, sent, speed }) {
  const share = bytes ? sent / bytes : 0;
  const seconds = speed ? (bytes - sent) / speed : null;
  const left = seconds === null ? "" : `, ${seconds < 90 ? word("about {count} s left", { count: Math.max(1, Math.ceil(seconds)) }) : word("about {count} min left", { count: Math.round(seconds / 60) })}`;
  const values = { count, share: Math.round(share * 100) };
  return { count, share, said: (count === 1 ? word("Sending 1 recording, {share} %", values) : word("Sending {count} recordings, {share} %", values)) + left };
}

for (const name of ["click", "submit"]) {
  document.addEventListener(name, (event) => {
    const target = name === "click" ? event.target.closest("a[href]") : event.target;
    if (!target || new URL(target.href ?? target.action, location).origin !== location.origin) return;
    staysInside = true;
    setTimeout(() => { staysInside = false; }, 3000);
  }, true);
}
addEventListener("beforeunload", (event) => {
  if (busy && !(lasting && staysInside)) event.preventDefault();
});
