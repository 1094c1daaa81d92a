// A chosen script is read on the server and put where pasted text goes; another encoding can be tried.

import { posted } from "./asking.js";
import { word } from "./words.js";

const form = document.querySelector("#script");
const chooser = form.querySelector("#script-file");
const text = form.querySelector("#script-text");
const said = form.querySelector("#script-file-said");
const readAs = form.querySelector("#read-as");
const encoding = form.querySelector("#script-encoding");

async function read(chosen) {
  const file = chooser.files[0];
  if (!file) return;
  const body = new FormData();
  body.append("file", file);
  if (chosen) body.append("encoding", chosen);
  said.className = "small";
  said.textContent = word("Reading {name}", { name: file.name });
  const answer = (await posted(form.dataset.read, body)).body ?? { problem: word("The server did not read the file. Try once more.") };
  said.textContent = answer.problem ?? file.name;
  if (answer.problem) {
    said.className = "small problem";
    readAs.hidden = true;
    return;
  }
  text.value = answer.text;
  readAs.hidden = !answer.encoding;
  if (answer.encoding) encoding.value = answer.encoding;
  htmx.trigger(form, "again");
}

// The file is read here; only its text belongs to the form.
chooser.addEventListener("change", (event) => { event.stopPropagation(); read(); });
chooser.addEventListener("input", (event) => event.stopPropagation());
encoding.addEventListener("change", (event) => { event.stopPropagation(); read(encoding.value); });
encoding.addEventListener("input", (event) => event.stopPropagation());

form.addEventListener("change", (event) => {
  if (event.target.name === "skip") event.target.closest("tr").classList.toggle("struck", event.target.checked);
});
