// Every edit is sent to the server, one after the other, and the page shows what it answers.

import { say, store } from "./store.js";
import { UNANSWERED, fetched, posted } from "../asking.js";
import { word } from "../words.js";

const ASK_AGAIN_MS = 4000;
let line = Promise.resolve();
let waiting = 0;

async function send(op, values) {
  const { ok, body: found } = await posted(`${store.address}do/`, { op, revision: store.state.revision, ...values });
  if (found?.revision) store.take(found);
  say(found ? found.said ?? "" : UNANSWERED, !ok);
  return ok;
}

// Resolves to whether it was done.
export function edit(op, values = {}) {
  waiting += 1;
  const done = line.then(() => send(op, values)).finally(() => { waiting -= 1; });
  line = done.catch(() => {});
  return done;
}

export async function ask(path, values) {
  const { ok, body } = await posted(`${store.address}${path}`, values);
  return { ok, ...(body ?? { said: UNANSWERED }) };
}

// What another window or another person did shows here by itself.
async function look() {
  if (waiting || document.hidden) return;
  const { status, body } = await fetched(`${store.address}state/?known=${store.state.revision}`);
  if (status !== 200 || waiting) return;
  store.take(body);
  say(word("This page was changed in another window, or by somebody else. It shows now how it is."));
}

setInterval(look, ASK_AGAIN_MS);
addEventListener("focus", look);
