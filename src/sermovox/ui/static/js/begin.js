// Recordings dropped onto the list of productions begin a new one, called like their folder or what their names share.

import { headers, posted } from "./asking.js";
import { droppedFiles, leftOut, sounding } from "./dropped.js";
import { leaveFor, listen, outlives, tell } from "./uploads-port.js";
import { word } from "./words.js";

const form = document.querySelector("form.begin");
const SIGNS = /[\s._\-–—()[\]#]+$/;
const ROLE_OR_NUMBER = /[\s._\-–—]*(\d+|ch(ap(ter)?)?|part|ep(isode)?|take|kap(itel)?|teil|folge|cap([ií]tulo)?|parte|toma|chapitre|partie|[ée]pisod[eio]+|prise)$/iu;

const stem = (name) => name.replace(/\.\w{1,5}$/, "");

// What all names begin with, without numbers and what they count; the whole of a single name.
function sharedTitle(names) {
  const stems = names.map(stem);
  let shared = stems[0] ?? "";
  for (const other of stems) while (!other.startsWith(shared)) shared = shared.slice(0, -1);
  if (stems.length > 1) {
    let before;
    do {
      before = shared;
      shared = shared.replace(SIGNS, "").replace(ROLE_OR_NUMBER, "");
    } while (shared !== before);
  }
  const title = shared.replaceAll("_", " ").replace(SIGNS, "").trim();
  return title.length > 2 ? title : word("New production");
}

function say(text) {
  const line = document.querySelector("#begin-said");
  line.textContent = text;
  line.hidden = !text;
}

addEventListener("dragover", (event) => {
  if (!event.dataTransfer.types.includes("Files")) return;
  event.preventDefault();
  form.classList.add("over");
});
addEventListener("dragleave", (event) => { if (!event.relatedTarget) form.classList.remove("over"); });
addEventListener("drop", async (event) => {
  if (!event.dataTransfer.types.includes("Files")) return;
  event.preventDefault();
  form.classList.remove("over");
  const { files, folder } = await droppedFiles(event.dataTransfer);
  const sound = sounding(files);
  if (!sound.length) {
    say(leftOut(files) || word("There is no recording among them."));
    return;
  }
  const title = (document.querySelector("#begin-title").value.trim() || folder || sharedTitle(sound.map((file) => file.name))).slice(0, 200);
  const { address, uploads, problem } = (await posted(form.dataset.begin, new URLSearchParams({ title }))).body ?? { problem: word("The line broke, or you were signed out. Nothing was begun; reload this page, then drop them once more.") };
  if (problem) {
    say(problem);
    return;
  }
  tell({ do: "take", address: uploads, page: address, token: headers()["X-CSRFToken"], batch: crypto.randomUUID(), files: sound });
  if (outlives()) {
    leaveFor(address);
    return;
  }
  say(word("They are being sent; the production opens once they have arrived."));
  listen(({ places }) => {
    const place = places.find((each) => each.address === uploads);
    if (place && !place.count && !place.broken) leaveFor(address);
  });
});
