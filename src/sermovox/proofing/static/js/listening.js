// The text followed while what remains is heard; something can be noted at the word just heard.

import { UNANSWERED, posted } from "./asking.js";
import { whyUnheard } from "./unheard.js";
import { word } from "./words.js";

const LATE_S = 0.35; // so long a hand takes
const SPEEDS = [0.75, 1, 1.25, 1.5, 1.75, 2];
const MOST_S = 1200; // one answer goes no further
const AGAIN_S = 1.5;
const root = document.querySelector("#listening");
const text = document.querySelector("#reading-text");
const rate = Number(root.dataset.rate), frames = Number(root.dataset.frames);
const words = []; // { at, heard, element, sentence }: where in the recording, and when what remains is heard, seconds
const firsts = []; // the first word of each sentence
const audio = new Audio();
audio.preservesPitch = true;
let begun = 0; // when the first sound of what is played is heard, seconds
let now = null; // the word that is heard
let speed = 1;

JSON.parse(document.querySelector("#sentences").textContent).forEach((sentence, number) => {
  const paragraph = document.createElement("p");
  firsts.push(words.length);
  for (const [said, at, heard] of sentence) {
    const element = document.createElement("span");
    element.textContent = said;
    element.dataset.word = words.length;
    words.push({ at, heard, element, sentence: number });
    paragraph.append(element, " ");
  }
  text.append(paragraph);
});

// A word that takes no time of its own begins where the next one does.
for (const at of JSON.parse(document.querySelector("#noted").textContent)) words.findLast((each) => Math.abs(each.at - at) < 0.001)?.element.classList.add("noted");

const clock = (seconds) => {
  const whole = Math.floor(seconds), rest = `${Math.floor((whole % 3600) / 60)}:${String(whole % 60).padStart(2, "0")}`;
  return whole >= 3600 ? `${Math.floor(whole / 3600)}:${rest.padStart(5, "0")}` : rest;
};
const heardAt = () => begun + audio.currentTime;
const wordAt = (heard) => words.findLast((each) => each.heard <= heard + 0.01) ?? words[0];
const say = (said) => { document.querySelector("#noted-said").textContent = said; };

function show(spoken) {
  if (spoken === now) return;
  now?.element.classList.remove("now");
  now = spoken;
  now.element.classList.add("now");
  const box = now.element.getBoundingClientRect();
  if (box.bottom > innerHeight * 0.65 || box.top < 80) now.element.scrollIntoView({ block: "center" });
}

function play(spoken) {
  begun = spoken.heard;
  show(spoken);
  audio.src = `${root.dataset.listen}${root.dataset.listen.includes("?") ? "&" : "?"}start=${Math.round(spoken.at * rate)}&end=${frames}`;
  audio.playbackRate = audio.defaultPlaybackRate = speed;
  audio.play().catch(() => {});
}

function follow() {
  if (audio.paused) return;
  document.querySelector("#where").textContent = clock(heardAt());
  show(wordAt(heardAt()));
  requestAnimationFrame(follow);
}

function showSpeed() {
  audio.playbackRate = audio.defaultPlaybackRate = speed;
  document.querySelector("#speed").textContent = `${speed}×`;
}

// One edit of the sheet; resolves to whether it was done.
async function send(values) {
  const { ok, body } = await posted(root.dataset.do, new URLSearchParams(values), "text");
  const said = new DOMParser().parseFromString(body ?? "", "text/html").querySelector("#proof-said");
  say(ok && said ? said.textContent : UNANSWERED);
  return ok && Boolean(said) && !said.classList.contains("problem");
}

const meant = () => (audio.paused ? now ?? words[0] : wordAt(Math.max(begun, heardAt() - LATE_S * speed)));
const last = []; // the words that were noted, so that undo takes their lines away

async function note(kind) {
  const spoken = meant(), field = document.querySelector("#note");
  if (await send({ op: "note", kind, at_s: spoken.at.toFixed(3), note: field.value })) {
    spoken.element.classList.add("noted");
    last.push(spoken);
    field.value = "";
  }
}

async function remark() {
  const spoken = meant(), field = document.querySelector("#note");
  const values = { at_s: spoken.at.toFixed(3), text: field.value, called: document.querySelector("#called").value };
  const { ok, body } = await posted(root.dataset.remark, new URLSearchParams(values));
  say(body?.said ?? UNANSWERED);
  if (!ok) return;
  spoken.element.classList.add("noted");
  field.value = "";
}

const faster = (by) => {
  speed = SPEEDS[Math.min(SPEEDS.length - 1, Math.max(0, SPEEDS.indexOf(speed) + by))];
  showSpeed();
};
const doers = {
  play: () => (audio.paused ? play(now ?? words[0]) : audio.pause()),
  back: () => {
    const here = now ?? words[0], first = words[firsts[here.sentence]];
    const into = audio.paused ? here.heard - first.heard : heardAt() - first.heard;
    play(into < AGAIN_S ? words[firsts[Math.max(0, here.sentence - 1)]] : first);
  },
  slower: () => faster(-1),
  faster: () => faster(1),
  undo: async () => { if (await send({ op: "undo" })) last.pop()?.element.classList.remove("noted"); },
};

root.addEventListener("click", (event) => {
  const spoken = event.target.closest("[data-word]");
  if (spoken) return play(words[Number(spoken.dataset.word)]);
  const button = event.target.closest("button");
  if (button?.dataset.note) note(button.dataset.note);
  else if (button?.dataset.act) doers[button.dataset.act]();
});
document.querySelector("#remark")?.addEventListener("submit", (event) => {
  event.preventDefault();
  remark();
});
document.querySelector("#note").addEventListener("focus", () => { if (root.dataset.remark) audio.pause(); });
audio.addEventListener("playing", () => requestAnimationFrame(follow));
for (const name of ["play", "pause"]) {
  audio.addEventListener(name, () => { document.querySelector("[data-act=play]").firstChild.textContent = `${audio.paused ? word("Play") : word("Stop")} `; });
}
audio.addEventListener("ended", () => {
  const next = words[words.indexOf(now) + 1];
  if (next && audio.currentTime > MOST_S - 2) play(next);
});
audio.addEventListener("error", async () => {
  if (audio.src) say(await whyUnheard(audio, word("The sound could not be made. Try once more.")));
});
