// A recording laid out like a page: the waveform runs in lines, played by clicking into it.

import { UNANSWERED, fetched, posted } from "./asking.js";
import { clock, extremes, inks, onCurve, sharp } from "./ink.js";
import { whyUnheard } from "./unheard.js";
import { word } from "./words.js";

const LINE_SECONDS = [5, 10, 15, 20, 30, 60, 120, 300, 600, 1200];
const MOST_LINES = 8;
const LINE_HEIGHT = 46;
const MARGIN = 58;
const STEP_SECONDS = 5;
const SAID_MS = 4000;
const AGAIN_MS = 1000;
const MOST_TIMES = 900;

const heightOf = (value) => onCurve(value / 127) * (LINE_HEIGHT / 2 - 3);

class Player {
  constructor(root) {
    this.root = root;
    this.seconds = Number(root.dataset.seconds) || 0;
    const most = Number(root.dataset.mostLines) || MOST_LINES;
    this.lineSeconds = LINE_SECONDS.find((s) => this.seconds / s - 0.02 <= most) ?? this.seconds / most;
    this.lines = Math.max(1, Math.ceil(this.seconds / this.lineSeconds - 0.02));
    this.audio = new Audio();
    this.audio.preload = "metadata";
    this.canvas = root.querySelector("canvas");
    this.button = root.querySelector("[data-play]");
    this.clock = root.querySelector("[data-clock]");
    this.slider = root.querySelector("input[type=range]");
    this.slider.max = this.seconds;
    this.slider.step = 0.1;
    this.pairs = new Int8Array(0);
    this.listen();
    // Until here a press would go nowhere.
    for (const button of root.querySelectorAll("button")) button.disabled = false;
    this.load();
  }

  listen() {
    this.button.addEventListener("click", () => this.toggle());
    this.root.querySelector("[data-mark]")?.addEventListener("click", (event) => this.mark(event.target.dataset.mark));
    this.canvas.addEventListener("click", (event) => {
      this.seek(this.secondAt(event.offsetX, event.offsetY));
      if (this.audio.paused) this.toggle();
    });
    this.slider.addEventListener("input", () => this.seek(Number(this.slider.value)));
    this.slider.addEventListener("keydown", (event) => {
      const step = { ArrowLeft: -STEP_SECONDS, ArrowRight: STEP_SECONDS }[event.key];
      if (!step) return;
      event.preventDefault();
      this.seek(this.audio.currentTime + step);
    });
    for (const name of ["play", "pause", "ended"]) this.audio.addEventListener(name, () => this.show());
    this.audio.addEventListener("timeupdate", () => this.show());
    this.audio.addEventListener("error", async () => {
      this.said = await whyUnheard(this.audio, word("This browser cannot play the file. Download it to listen."));
      this.show();
    });
    new ResizeObserver(() => this.draw()).observe(this.canvas);
    document.addEventListener("colours", () => this.draw());
  }

  // The sound comes after the waveform: where that was freed, the copy to listen to was freed with it.
  async load() {
    const columns = Math.ceil(this.lines * 1100);
    const ask = () => fetched(`${this.root.dataset.waveform}?columns=${columns}`, "bytes");
    let answer = await ask();
    for (let times = 0; answer.status === 202 && times < MOST_TIMES; times += 1) {
      this.clock.textContent = word("The waveform is being drawn again.");
      await new Promise((wake) => setTimeout(wake, AGAIN_MS));
      answer = await ask();
    }
    if (answer.status === 200) this.pairs = new Int8Array(answer.body);
    this.audio.src = this.root.dataset.audio;
    this.show();
  }

  toggle() {
    if (!this.audio.paused) return this.audio.pause();
    for (const other of players) if (other !== this) other.audio.pause();
    if (this.audio.error) this.again();
    this.audio.play().catch(() => {});
    const animate = () => {
      this.show();
      if (!this.audio.paused) requestAnimationFrame(animate);
    };
    requestAnimationFrame(animate);
  }

  // What failed once may be there by now: a sound device, or the file.
  again() {
    const at = this.audio.currentTime;
    this.said = "";
    this.audio.load();
    this.audio.currentTime = at;
  }

  seek(second) {
    this.audio.currentTime = Math.min(Math.max(0, second), this.seconds);
    this.show();
  }

  secondAt(x, y) {
    const width = this.canvas.clientWidth - MARGIN;
    const line = Math.min(this.lines - 1, Math.floor(y / LINE_HEIGHT));
    return Math.min(this.seconds, (line + Math.max(0, x - MARGIN) / width) * this.lineSeconds);
  }

  // A mark where it is heard, on the page of the recording.
  async mark(address) {
    const { body } = await posted(address, new URLSearchParams({ seconds: this.audio.currentTime }));
    this.said = body?.said ?? UNANSWERED;
    setTimeout(() => { this.said = ""; this.show(); }, SAID_MS);
    this.show();
  }

  show() {
    const now = this.audio.currentTime;
    this.button.textContent = this.audio.paused ? this.button.dataset.play : this.button.dataset.pause;
    this.clock.textContent = this.said || word("{now} of {whole}", { now: clock(now), whole: clock(this.seconds) });
    this.slider.value = now;
    this.slider.setAttribute("aria-valuetext", this.clock.textContent);
    this.draw();
  }

  draw() {
    const width = this.canvas.clientWidth, colour = inks(this.root);
    this.canvas.style.height = `${this.lines * LINE_HEIGHT}px`;
    const pen = sharp(this.canvas, width, this.lines * LINE_HEIGHT);
    const text = width - MARGIN;
    const shown = this.pairs.length / 2;
    const now = this.audio.currentTime;
    pen.font = `14px ${colour("mono")}`;
    pen.textBaseline = "middle";
    for (let line = 0; line < this.lines; line += 1) {
      const middle = (line + 0.5) * LINE_HEIGHT;
      pen.fillStyle = colour("ink-2");
      pen.fillText(clock(line * this.lineSeconds), 0, middle);
      const share = Math.min(1, this.seconds / this.lineSeconds - line);
      pen.fillStyle = colour("rule");
      pen.fillRect(MARGIN, middle, text * share, 1);
      pen.fillStyle = colour("ink");
      for (let x = 0; x < text * share; x += 1) {
        const from = ((line + x / text) * this.lineSeconds) / this.seconds;
        const to = ((line + (x + 1) / text) * this.lineSeconds) / this.seconds;
        const first = Math.floor(from * shown);
        const [low, high] = extremes(this.pairs, first, Math.max(first + 1, Math.floor(to * shown)));
        if (high < low) continue;
        const top = middle - heightOf(high);
        pen.fillRect(MARGIN + x, top, 1, Math.max(1, middle - heightOf(low) - top));
      }
      const here = now / this.lineSeconds - line;
      if (here >= 0 && here < 1) {
        pen.fillStyle = colour("pencil");
        pen.fillRect(MARGIN + here * text - 1, middle - LINE_HEIGHT / 2 + 1, 2, LINE_HEIGHT - 2);
      }
    }
  }
}

const players = [];

function start() {
  for (const root of document.querySelectorAll("[data-player]:not([data-started])")) {
    root.dataset.started = "";
    players.push(new Player(root));
  }
}

// From source to result and back at the same place.
document.addEventListener("click", (event) => {
  if (!event.target.closest("[data-switch-players]") || players.length < 2) return;
  const heard = players.find((player) => !player.audio.paused) ?? players[0];
  const other = players.find((player) => player !== heard);
  // The same word: head and tail of the finished file may have been set.
  const now = heard.audio.currentTime - Number(heard.root.dataset.later) + Number(other.root.dataset.later);
  heard.audio.pause();
  other.seek(now);
  other.toggle();
});

start();
document.addEventListener("htmx:afterSettle", start);
