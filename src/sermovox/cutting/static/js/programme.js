// The programme of a section: pieces are moved by dragging or with buttons, and heard together.

import { clock } from "./ink.js";
import { whyUnheard } from "./unheard.js";
import { word } from "./words.js";

const table = document.querySelector("#pieces");
const rows = () => [...(table?.querySelectorAll("tr[data-at]") ?? [])];
let dragged = null;

function send(row, to) {
  const form = row.querySelector("form.move");
  form.elements.to.value = to;
  form.submit();
}

table?.addEventListener("click", (event) => {
  const by = Number(event.target.closest("[data-move]")?.dataset.move);
  const row = event.target.closest("tr");
  if (by) send(row, Number(row.dataset.at) + by);
});

table?.addEventListener("keydown", (event) => {
  const by = { ArrowUp: -1, ArrowDown: 1 }[event.key];
  if (!by || event.target.tagName !== "TR") return;
  event.preventDefault();
  const to = Number(event.target.dataset.at) + by;
  if (event.altKey) return to >= 0 && to < rows().length && send(event.target, to);
  rows()[to]?.focus();
});

table?.addEventListener("dragstart", (event) => {
  dragged = event.target.closest?.("tr");
  event.dataTransfer.effectAllowed = "move";
  event.dataTransfer.setData("text/plain", dragged.dataset.at);
});
const clear = () => rows().forEach((row) => row.classList.remove("drop-before", "drop-after"));
table?.addEventListener("dragover", (event) => {
  const row = event.target.closest("tr[data-at]");
  if (!dragged || !row) return;
  event.preventDefault();
  clear();
  const box = row.getBoundingClientRect();
  row.classList.add(event.clientY < box.top + box.height / 2 ? "drop-before" : "drop-after");
});
table?.addEventListener("drop", (event) => {
  const row = event.target.closest("tr[data-at]");
  if (!dragged || !row) return;
  event.preventDefault();
  const from = Number(dragged.dataset.at);
  let to = Number(row.dataset.at) + (row.classList.contains("drop-after") ? 1 : 0);
  if (from < to) to -= 1;
  if (to !== from) send(dragged, to);
  clear();
});
document.addEventListener("dragend", () => { dragged = null; clear(); });

const hear = document.querySelector("#hear");
if (hear) {
  const audio = new Audio();
  audio.preload = "none";
  const slider = document.querySelector("#hear-at"), said = document.querySelector("#hear-said");
  const whole = said.dataset.whole;
  const show = () => {
    hear.textContent = audio.paused ? word("Hear it as it will sound") : word("Stop");
    said.textContent = word("{now} of {whole}", { now: clock(audio.currentTime), whole });
    slider.value = audio.currentTime;
  };
  hear.addEventListener("click", () => {
    if (!audio.src) audio.src = hear.dataset.address;
    if (audio.paused) audio.play().catch(() => {});
    else audio.pause();
  });
  slider.addEventListener("input", () => {
    if (!audio.src) audio.src = hear.dataset.address;
    audio.currentTime = Number(slider.value);
  });
  for (const name of ["play", "pause", "ended", "timeupdate"]) audio.addEventListener(name, show);
  document.addEventListener("hear-from", (event) => {
    if (!audio.src) audio.src = hear.dataset.address;
    audio.currentTime = event.detail;
    audio.play().catch(() => {});
  });
  const follow = () => {
    document.dispatchEvent(new CustomEvent("heard-at", { detail: audio.currentTime }));
    if (!audio.paused) requestAnimationFrame(follow);
  };
  for (const name of ["play", "seeked", "pause"]) audio.addEventListener(name, follow);
  audio.addEventListener("error", async () => {
    said.textContent = await whyUnheard(audio, word("The sound could not be made. Try once more."));
  });
}
