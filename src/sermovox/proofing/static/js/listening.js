// The text followed while it is heard; a key notes something at the word just heard.

import { whyUnheard } from "./unheard.js";
import { word } from "./words.js";

const LATE_S = 0.35; // so long a hand takes
const SPEEDS = [0.75, 1, 1.25, 1.5, 1.75, 2];
const MOST_S = 1200; // one answer goes no further
const root = document.querySelector("#listening");
const text = document.querySelector("#reading-text");
const rate = Number(root.dataset.rate), frames = Number(root.dataset.frames);
const sentences = JSON.parse(document.querySelector("#sentences").textContent);
const noted = new Set(JSON.parse(document.querySelector("#noted").textContent).map((at) => Math.round(at * 1000)));
const end = sentences.at(-1).end_s + 1;
const words = []; // { start, end, element, sentence }
const audio = new Audio();
audio.preservesPitch = true;
let begun = 0; // where what is played begins, seconds
let now = null;
let speed = 1;

sentences.forEach((sentence, number) => {
  const paragraph = document.createElement("p");
  for (const [said, start, stop] of sentence.words) {
    const element = document.createElement("span");
    element.textContent = said;
    element.classList.toggle("noted", noted.has(Math.round(start * 1000)));
    words.push({ start, end: stop, element, sentence: number });
    element.dataset.word = words.length - 1;
    paragraph.append(element, " ");
  }
  text.append(paragraph);
});

const clock = (seconds) => `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
const heardAt = () => begun + audio.currentTime;
const wordAt = (seconds) => words.findLast((each) => each.start <= seconds) ?? words[0];

function play(from) {
  begun = Math.max(0, from);
  const until = Math.min(frames / rate, end, begun + MOST_S);
  audio.src = `${root.dataset.listen}?mode=recorded&start=${Math.round(begun * rate)}&end=${Math.round(until * rate)}`;
  audio.playbackRate = audio.defaultPlaybackRate = speed;
  audio.play().catch(() => {});
}

let at = sentences[0].start_s; // where it goes on

function stop() {
  at = heardAt();
  audio.pause();
}

function follow() {
  if (audio.paused) return;
  const heard = wordAt(heardAt());
  document.querySelector("#where").textContent = clock(heardAt());
  if (heard !== now) {
    now?.element.classList.remove("now");
    now = heard;
    now.element.classList.add("now");
    const box = now.element.getBoundingClientRect();
    if (box.bottom > innerHeight * 0.65 || box.top < 80) now.element.scrollIntoView({ block: "center" });
  }
  requestAnimationFrame(follow);
}

function showSpeed() {
  audio.playbackRate = audio.defaultPlaybackRate = speed;
  document.querySelector("#speed").textContent = `${speed}×`;
}

async function send(values) {
  const body = new URLSearchParams(values);
  const headers = JSON.parse(document.body.getAttribute("hx-headers"));
  try {
    const answer = await fetch(root.dataset.do, { method: "POST", body, headers });
    const page = new DOMParser().parseFromString(await answer.text(), "text/html");
    const said = page.querySelector("#proof-said");
    document.querySelector("#noted-said").textContent = answer.ok && said ? said.textContent : word("The server did not answer. Nothing was changed; try once more.");
    return answer.ok && !said?.classList.contains("problem");
  } catch {
    document.querySelector("#noted-said").textContent = word("The server did not answer. Nothing was changed; try once more.");
    return false;
  }
}

async function note(kind) {
  const when = audio.paused ? at : Math.max(begun, heardAt() - LATE_S * speed);
  const meant = wordAt(when), field = document.querySelector("#note");
  if (await send({ op: "note", kind, at_s: when.toFixed(3), note: field.value })) {
    meant.element.classList.add("noted");
    last.push(meant);
    field.value = "";
  }
}

const last = []; // the words that were noted, so that undo takes their lines away
const faster = (by) => {
  speed = SPEEDS[Math.min(SPEEDS.length - 1, Math.max(0, SPEEDS.indexOf(speed) + by))];
  showSpeed();
};
const doers = {
  play: () => (audio.paused ? play(at) : stop()),
  back: () => {
    const here = wordAt(audio.paused ? at : heardAt());
    const into = (audio.paused ? at : heardAt()) - sentences[here.sentence].start_s;
    const to = sentences[Math.max(0, here.sentence - (into < 1.5 ? 1 : 0))].start_s;
    play(to);
  },
  slower: () => faster(-1),
  faster: () => faster(1),
  undo: async () => { if (await send({ op: "undo" })) last.pop()?.element.classList.remove("noted"); },
};

root.addEventListener("click", (event) => {
  const spoken = event.target.closest("[data-word]");
  if (spoken) return play(words[Number(spoken.dataset.word)].start);
  const button = event.target.closest("button");
  if (button?.dataset.note) note(button.dataset.note);
  else if (button) doers[button.dataset.act]();
});
audio.addEventListener("playing", () => requestAnimationFrame(follow));
for (const name of ["play", "pause"]) {
  audio.addEventListener(name, () => { document.querySelector("[data-act=play]").firstChild.textContent = `${audio.paused ? word("Play") : word("Stop")} `; });
}
audio.addEventListener("ended", () => {
  at = heardAt();
  if (at < end - 1.5 && at < frames / rate - 1) play(at);
});
audio.addEventListener("error", async () => {
  if (audio.src) document.querySelector("#noted-said").textContent = await whyUnheard(audio, word("The sound could not be made. Try once more."));
});
