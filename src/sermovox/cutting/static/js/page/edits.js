// Every edit is sent to the server, one after the other, and the page shows what it answers.

import { headers, say, store } from "./store.js";
import { word } from "../words.js";

const ASK_AGAIN_MS = 4000;
let line = Promise.resolve();
let waiting = 0;

async function send(op, values) {
  const body = JSON.stringify({ op, revision: store.state.revision, ...values });
  const answer = await fetch(`${store.address}do/`, { method: "POST", body, headers: { ...headers(), "Content-Type": "application/json" } });
  const found = await answer.json();
  if (found.revision) store.take(found);
  say(found.said ?? "", !answer.ok);
  return answer.ok;
}

// Resolves to whether it was done.
export function edit(op, values = {}) {
  waiting += 1;
  const done = line.then(() => send(op, values)).catch(() => {
    say(word("The server did not answer. Nothing was changed; try once more."), true);
    return false;
  }).finally(() => { waiting -= 1; });
  line = done;
  return done;
}

export async function ask(path, values) {
  const answer = await fetch(`${store.address}${path}`, { method: "POST", body: JSON.stringify(values), headers: { ...headers(), "Content-Type": "application/json" } });
  return { ok: answer.ok, ...(await answer.json()) };
}

// What another window or another person did shows here by itself.
async function look() {
  if (waiting || document.hidden) return;
  try {
    const answer = await fetch(`${store.address}state/?known=${store.state.revision}`);
    if (answer.status !== 200 || waiting) return;
    store.take(await answer.json());
    say(word("This page was changed in another window, or by somebody else. It shows now how it is."));
  } catch { /* Asked again soon. */ }
}

setInterval(look, ASK_AGAIN_MS);
addEventListener("focus", look);
