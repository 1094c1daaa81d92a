// Listening: the server makes the sound as it is played; here is where it is, and what follows.

import { reveal, showPlayhead } from "./lines.js";
import { clock, say, store } from "./store.js";
import { whyUnheard } from "../unheard.js";
import { word } from "../words.js";

const AROUND_S = 2;
const MOST_S = 1200; // one answer goes no further
export const SPEEDS = ["0.5", "0.75", "1", "1.25", "1.5", "2"];

const audio = new Audio();
audio.preservesPitch = true;
let segments = []; // of what is played: where each begins in it and in the recording, in samples
let until = 0;
let remains = true;

export const playing = () => !audio.paused;

// Where somebody heard what they answer to: a moment before the playhead, by how long a hand takes.
export function meantAt() {
  const at = heardAt();
  const late = Number(store.settings.reaction_s) * store.rate * audio.playbackRate;
  return at === null ? null : Math.max(segments[0].start, Math.round(at - late));
}

// What remains of a stretch: what is struck out is passed over, a pickup sounds where its place begins.
function segmentsOf(start, end) {
  if (!remains) return [{ at: 0, start, length: end - start }];
  const found = [];
  let at = 0, here = start;
  const add = (to) => {
    if (to <= here) return;
    found.push({ at, start: here, length: to - here });
    at += to - here;
  };
  const marks = store.state.marks.filter((m) => (m.kind === "strike" || m.kind === "pickup") && m.end_sample > start && m.start_sample < end);
  for (const mark of marks) {
    add(Math.min(mark.start_sample, end));
    if (mark.kind === "pickup" && mark.start_sample >= start) {
      const other = store.others.find((each) => String(each.pk) === mark.recording);
      const length = Math.round(((mark.to_sample - (mark.from_sample ?? 0)) * store.rate) / (other?.rate ?? store.rate));
      found.push({ at, start: mark.start_sample, length, still: true });
      at += length;
    }
    here = Math.max(here, mark.end_sample);
  }
  add(end);
  return found;
}

export function heardAt() {
  const sample = audio.currentTime * store.rate;
  const segment = segments.findLast((each) => each.at <= sample) ?? segments[0];
  if (!segment) return null;
  return segment.still ? segment.start : Math.min(segment.start + sample - segment.at, segment.start + segment.length);
}

function begin(start, end, asItWillSound) {
  remains = asItWillSound;
  segments = segmentsOf(start, end);
  if (!segments.length) return say(word("Nothing remains there to be heard."));
  until = end;
  audio.src = `${store.address}listen.wav?mode=${remains ? "remains" : "recorded"}&start=${start}&end=${end}&of=${store.state.revision}`;
  audio.playbackRate = audio.defaultPlaybackRate = Number(store.settings.speed);
  audio.play().catch((error) => { if (error.name !== "AbortError") say(word("This cannot be played. Look whether something of it is left."), true); });
  requestAnimationFrame(follow);
}

function follow() {
  if (audio.paused) return;
  const at = heardAt();
  if (at !== null && audio.currentTime > 0) {
    showPlayhead(at);
    document.querySelector("#where").textContent = clock(at, 3);
    reveal(at, { follow: true });
  }
  requestAnimationFrame(follow);
}

export function play(start, end = store.frames) {
  begin(start >= store.frames ? 0 : start, end, store.settings.remains);
}

export function stop() {
  const at = heardAt();
  audio.pause();
  return at;
}

// A moment before the cut to a moment after it, as it will sound.
export function playAround(start, end) {
  const reach = Math.round(AROUND_S * store.rate);
  begin(Math.max(0, start - reach), Math.min(store.frames, end + reach), true);
}

export function setSpeed(speed) {
  store.set("speed", speed);
  document.querySelector("#speed").value = speed;
  audio.playbackRate = audio.defaultPlaybackRate = Number(speed);
}

audio.addEventListener("ended", () => {
  const at = heardAt();
  if (at !== null && at < until - 1 && audio.currentTime > MOST_S - 1) return begin(Math.round(at), until, remains);
  showPlayhead(null);
  store.tell("sound");
});
for (const name of ["play", "pause"]) {
  audio.addEventListener(name, () => {
    if (audio.paused) showPlayhead(null);
    store.tell("sound");
  });
}
audio.addEventListener("error", async () => {
  if (audio.src) say(await whyUnheard(audio, word("The sound could not be made. Try once more.")), true);
});

// How long from the key to the first sound; read by bin/bench.
let asked = 0;
audio.addEventListener("loadstart", () => { asked = performance.now(); });
audio.addEventListener("playing", () => { store.root.dataset.startedInMs = Math.round(performance.now() - asked); });
