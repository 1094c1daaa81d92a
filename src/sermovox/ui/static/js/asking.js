// What a page asks of its server. The whole answer is read here: one that breaks off, as where the page is left, is like none.

import { word } from "./words.js";

export const UNANSWERED = word("The server did not answer. Nothing was changed; try once more.");

/** What a request of this page has to carry to be taken. */
export const headers = () => JSON.parse(document.body.getAttribute("hx-headers"));

const NONE = { ok: false, status: 0, body: null };

// A page to sign in has a good status where JSON was asked for: that is no answer. One of trouble may be said in any way.
async function json(answer) {
  const text = await answer.text();
  try {
    return text ? JSON.parse(text) : null;
  } catch (error) {
    if (answer.ok) throw error;
    return null;
  }
}

const read = { json, text: (answer) => answer.text(), bytes: (answer) => (answer.ok ? answer.arrayBuffer() : json(answer)) };

async function answered(address, options, as) {
  try {
    const answer = await fetch(address, options);
    return { ok: answer.ok, status: answer.status, body: await read[as](answer) };
  } catch {
    return NONE;
  }
}

/** What stands at an address, as "json", "text" or "bytes": { ok, status, body }. A status of 0 is no answer; trouble in bytes is JSON. */
export const fetched = (address, as = "json") => answered(address, {}, as);

/** What the server answers to values sent to it: as a form where they are one, else as JSON. */
export function posted(address, values, as = "json") {
  const isForm = values instanceof URLSearchParams || values instanceof FormData;
  const body = isForm ? values : JSON.stringify(values);
  return answered(address, { method: "POST", body, headers: { ...headers(), ...(isForm ? {} : { "Content-Type": "application/json" }) } }, as);
}
