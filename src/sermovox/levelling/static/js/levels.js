// One section over time: a stretch picked on the curve, heard before and after in step, and treatments tried.

import { UNANSWERED, fetched } from "./asking.js";
import { clock as clockOf } from "./ink.js";
import { whyUnheard } from "./unheard.js";
import { word } from "./words.js";

const LISTENED_S = 10;
let picked = null;
const players = {};
let side = "after";

const shown = () => document.querySelector(".over-time");

function scale() {
  const { first, last, left, right } = shown().dataset;
  return { first: Number(first), last: Number(last), left: Number(left), right: Number(right) };
}

const across = (seconds) => {
  const { first, last, left, right } = scale();
  return left + ((right - left) * (seconds - first)) / (last - first);
};

function secondsAt(event) {
  const { first, last, left, right } = scale();
  const box = shown().querySelector("svg").getBoundingClientRect();
  const x = ((event.clientX - box.left) / box.width) * 1000;
  return Math.min(last, Math.max(first, first + ((x - left) / (right - left)) * (last - first)));
}

const clock = (seconds) => `${seconds < 0 ? "−" : ""}${clockOf(Math.abs(seconds), 1)}`;

function say(words) {
  const said = document.querySelector("#heard-said");
  if (said) said.textContent = words;
}

function pick(from, to) {
  picked = { from: Math.min(from, to), to: Math.max(from, to) };
  show();
  stop();
  const wide = picked.to - picked.from;
  const learn = document.querySelector("[data-learn]");
  if (learn) learn.disabled = wide < 0.1 || wide > 30 || picked.from < 0;
  say(wide < 0.1 ? word("From {from}", { from: clock(picked.from) }) : word("{from} to {to}, {seconds} s", { from: clock(picked.from), to: clock(picked.to), seconds: wide.toFixed(1) }));
}

function show() {
  if (!picked || !shown()) return;
  const rect = shown().querySelector(".picked");
  rect.setAttribute("x", across(picked.from));
  rect.setAttribute("width", Math.max(1.5, across(picked.to) - across(picked.from)));
}

let begun = null;
document.addEventListener("pointerdown", (event) => {
  if (!event.target.closest?.(".over-time svg")) return;
  begun = secondsAt(event);
  pick(begun, begun);
});
document.addEventListener("pointermove", (event) => {
  if (begun !== null && shown()) pick(begun, secondsAt(event));
});
document.addEventListener("pointerup", () => { begun = null; });
document.addEventListener("keydown", (event) => {
  if (!event.target.closest?.(".over-time svg")) return;
  const step = { ArrowLeft: -1, ArrowRight: 1, PageUp: -10, PageDown: 10 }[event.key];
  if (!step) return;
  event.preventDefault();
  const { first, last } = scale();
  const { from, to } = picked ?? { from: 0, to: 0 };
  const inside = (seconds) => Math.min(last, Math.max(first, seconds));
  if (event.shiftKey) pick(from, inside(to + step));
  else pick(inside(from + step), inside(from + step));
});

function stop() {
  for (const audio of Object.values(players)) audio.pause();
  label();
}

function label() {
  for (const button of document.querySelectorAll("[data-hear]")) {
    const playing = players[button.dataset.hear] && !players[button.dataset.hear].paused && side === button.dataset.hear;
    button.setAttribute("aria-pressed", playing ? "true" : "false");
  }
}

const said = (which) => (which === "after" ? word("As planned") : word("As recorded"));

function hear(which) {
  const sounding = players[side] && !players[side].paused;
  if (sounding && which === side) return stop();
  if (sounding) return turn(which);
  side = which;
  const from = picked?.from ?? 0;
  const wide = picked && picked.to - picked.from >= 0.3 ? Math.min(30, picked.to - picked.from) : LISTENED_S;
  for (const each of ["before", "after"]) {
    const audio = players[each] ?? (players[each] = new Audio());
    audio.src = `${shown().dataset.heard}${tried && `&tried&${tried}`}&side=${each}&start=${from.toFixed(2)}&length=${wide.toFixed(2)}`;
    audio.muted = each !== which;
    audio.onended = () => { move(null); label(); };
    audio.onerror = async () => say(await whyUnheard(audio, word("This stretch cannot be played. Choose another one.")));
    audio.dataset.from = from;
  }
  for (const audio of Object.values(players)) audio.play().catch(() => {});
  say(`${said(which)}, ${word("from {from}", { from: clock(from) })}`);
  follow();
  label();
}

function turn(which) {
  const other = players[which];
  other.currentTime = players[side].currentTime;
  players[side].muted = true;
  other.muted = false;
  side = which;
  say(said(which));
  label();
}

function move(seconds) {
  const line = shown()?.querySelector(".playing");
  const x = seconds === null ? -10 : across(seconds);
  line?.setAttribute("x1", x);
  line?.setAttribute("x2", x);
}

function follow() {
  const audio = players[side];
  if (!audio || !shown()) return;
  if (!audio.paused) move(Number(audio.dataset.from) + audio.currentTime);
  if (!audio.paused || audio.readyState < 2) requestAnimationFrame(follow);
  label();
}

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-hear], [data-hear-switch], [data-learn], [data-learn-quietest]");
  if (!button || !shown()) return;
  if (button.dataset.hear) return hear(button.dataset.hear);
  if ("hearSwitch" in button.dataset) return hear(side === "after" ? "before" : "after");
  const form = button.closest("form");
  if ("learn" in button.dataset) {
    form.elements.noise_start.value = picked.from.toFixed(2);
    form.elements.noise_end.value = picked.to.toFixed(2);
  } else form.elements.noise.value = "quietest";
  form.dispatchEvent(new Event("change", { bubbles: true }));
});

// --- Trying a treatment: what would come of it is shown, and heard, before anything is kept ---------------------

const TRIED_MS = 120, LATER_MS = 2000;
const BESIDE = new Set(["seen", "do", "shown", "section", "outlet", "voice", "everywhere"]);
const controls = () => document.querySelector(".treat.own");
let tried = "", kept = "", waiting = 0, asked = 0;

const wished = (form) => new URLSearchParams([...new FormData(form)].filter(([name, value]) => !BESIDE.has(name) && value)).toString();

function begin() {
  tried = "";
  kept = controls() ? wished(controls()) : "";
}

for (const name of ["input", "change"]) {
  document.addEventListener(name, (event) => {
    const form = event.target.closest?.(".treat.own");
    if (!form) return;
    showNumbers(form);
    clearTimeout(waiting);
    waiting = setTimeout(attempt, TRIED_MS);
  });
}
document.addEventListener("reset", (event) => {
  if (!event.target.matches(".treat.own")) return;
  for (const name of ["noise", "noise_start", "noise_end"]) event.target.elements[name].value = "";
  setTimeout(() => { showNumbers(event.target); attempt(); });
});

function showNumbers(form) {
  for (const number of form.querySelectorAll("[data-shows]")) number.textContent = form.elements[number.dataset.shows].value;
}

async function attempt() {
  const form = controls();
  if (!form) return;
  const now = wished(form), number = ++asked;
  stop();
  const { ok, body } = await fetched(`${form.dataset.tried}&${now}`, "text");
  if (number !== asked || !form.isConnected) return;
  const text = body ?? UNANSWERED;
  tried = ok && now !== kept ? now : "";
  form.querySelector("[data-trying]").hidden = now === kept;
  if (!ok) return say(text);
  const page = new DOMParser().parseFromString(text, "text/html");
  const found = ["#picture", "#outcome"].map((place) => [document.querySelector(place), page.querySelector(place)]);
  if (found.some((each) => each.includes(null))) return say(word("Its levels have to be measured anew for this: keep it to see them."));
  for (const [old, fresh] of found) old.replaceWith(fresh);
  show();
}

// What is being tried is not swept away by a plan that comes meanwhile.
document.addEventListener("htmx:beforeSwap", (event) => {
  const { requestConfig, target } = event.detail;
  if (requestConfig.verb !== "get" || target.id !== "plan" || !controls() || wished(controls()) === kept) return;
  event.detail.shouldSwap = false;
  setTimeout(() => htmx.ajax("GET", requestConfig.path, { target: "#plan", swap: "outerHTML" }), LATER_MS);
});
document.addEventListener("htmx:afterSwap", () => { stop(); show(); begin(); });
begin();
