// While pairs are corrected: how many there are, which rows are open, and whether one recording is taken twice.

import { word } from "./words.js";

const form = document.querySelector("#pairing");
const count = document.querySelector("#paired-count");

function show() {
  const fields = [...form.querySelectorAll("input[list]")];
  const times = new Map();
  for (const { value } of fields) if (value) times.set(value, (times.get(value) ?? 0) + 1);
  for (const field of fields) {
    field.closest("tr").classList.toggle("open", !field.value);
    field.classList.toggle("twice", times.get(field.value) > 1);
  }
  count.textContent = word("{now} of {whole}", { now: fields.filter((field) => field.value).length, whole: fields.length });
}

if (form) {
  form.addEventListener("input", show);
  show();
}
