// The listening desk: a stretch of every version is fetched at once, and switched in the browser.

import { UNANSWERED, fetched, posted } from "./asking.js";
import { together } from "./desk-sound.js";
import { clock, extremes, inks, onCurve, sharp } from "./ink.js";
import { figure, word } from "./words.js";

const root = document.querySelector("#desk");
const el = (id) => document.getElementById(id);
const PICKED_MS = 250;
const TALL = 44;
const AGAIN_MS = 1500;

if (root) lay();
else if (document.querySelector("[data-look-again]")) setTimeout(() => location.reload(), AGAIN_MS);

function lay() {
  const rows = [...root.querySelectorAll(".version")];
  const keys = rows.map((row) => row.dataset.keyOf);
  const duration = Number(root.dataset.duration);
  let context = null, playing = null, buffers = [], told = [], current = 0, loading = null, waiting = 0, frame = 0;
  let pair = null; // of a round with hidden names: the two versions in the order they are called

  const length = () => Math.min(Number(root.dataset.longest), Math.max(0.5, Number(el("stretch-length").value.replace(",", ".")) || Number(root.dataset.usual)));
  const start = () => Math.max(0, Math.min(Number(el("stretch").value), duration - length()));
  const say = (text) => { el("desk-said").textContent = text; };
  const levels = () => told.map((each) => (el("equal").checked ? 10 ** (each.gain_db / 20) : 1));

  // --- The stretch -----------------------------------------------------------------------------------------------

  function showStretch() {
    drawWhole();
    el("stretch-said").textContent = word("{from} to {to}", { from: clock(start()), to: clock(Math.min(duration, start() + length())) });
  }

  async function fetchStretch() {
    const asked = (loading = {});
    halt();
    for (const id of ["play", "next", "hide"]) el(id).disabled = true;
    say(word("The stretch is being made ready."));
    const { ok, body: bytes } = await fetched(`${root.dataset.sound}&start=${start()}&length=${length()}`, "bytes");
    if (asked !== loading) return;
    if (!ok) return say(bytes?.said ?? UNANSWERED);
    const line = new Uint8Array(bytes).indexOf(10);
    const head = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 0, line)));
    const samples = new Float32Array(bytes, line + 1);
    told = head.versions;
    buffers = told.map((each, number) => {
      const buffer = new AudioBuffer({ length: head.frames, numberOfChannels: head.channels, sampleRate: head.rate_hz });
      for (let channel = 0; channel < head.channels; channel += 1) {
        const from = (number * head.channels + channel) * head.frames;
        buffer.copyToChannel(samples.subarray(from, from + head.frames), channel);
      }
      return buffer;
    });
    for (const id of ["play", "next", "hide"]) el(id).disabled = false;
    el("hide").disabled = buffers.length < 2;
    say(word("Ready."));
    root.dataset.ready = "";
    showFacts();
    draw();
  }

  function pick() {
    showStretch();
    clearTimeout(waiting);
    waiting = setTimeout(fetchStretch, PICKED_MS);
  }
  for (const id of ["stretch", "stretch-length"]) el(id).addEventListener("input", pick);

  const wholeInk = el("whole");
  let wholePairs = new Int8Array(0);
  const WHOLE_TALL = 48;

  async function fetchWhole() {
    const { ok, status, body } = await fetched(`${wholeInk.dataset.waveform}?columns=2000`, "bytes");
    if (status === 202) return setTimeout(fetchWhole, AGAIN_MS);
    if (ok) wholePairs = new Int8Array(body);
    return drawWhole();
  }

  function drawWhole() {
    const width = wholeInk?.clientWidth;
    if (!width) return;
    const pen = sharp(wholeInk, width, WHOLE_TALL), colours = inks(root);
    pen.fillStyle = colours("pencil");
    pen.globalAlpha = 0.18;
    pen.fillRect((start() / duration) * width, 0, Math.max(2, (length() / duration) * width), WHOLE_TALL);
    pen.globalAlpha = 1;
    pen.fillStyle = colours("ink");
    const count = wholePairs.length / 2, seconds = Number(wholeInk.dataset.seconds), later = Number(wholeInk.dataset.later);
    const loudest = wholePairs.reduce((most, value) => Math.max(most, Math.abs(value)), 1);
    const tall = (value) => onCurve(value / loudest) * (WHOLE_TALL / 2 - 2);
    for (let x = 0; x < width; x += 1) {
      const at = (place) => Math.floor((((place / width) * duration + later) / seconds) * count);
      const [low, high] = extremes(wholePairs, at(x), Math.max(at(x) + 1, at(x + 1))).map(tall);
      if (low <= high) pen.fillRect(x, WHOLE_TALL / 2 - high, 1, Math.max(1, high - low));
    }
  }

  wholeInk?.addEventListener("pointerdown", (event) => {
    const from = (event.offsetX / wholeInk.clientWidth) * duration;
    wholeInk.setPointerCapture(event.pointerId);
    const drag = (moved) => {
      const to = Math.max(0, Math.min(duration, (moved.offsetX / wholeInk.clientWidth) * duration));
      const wide = Math.abs(to - from);
      // A click takes a stretch of the length that is set; dragging sets it.
      if (wide >= 0.5) el("stretch-length").value = Math.min(wide, Number(root.dataset.longest)).toFixed(1);
      el("stretch").value = wide >= 0.5 ? Math.min(from, to) : from;
      pick();
    };
    drag(event);
    wholeInk.addEventListener("pointermove", drag);
    wholeInk.addEventListener("pointerup", () => wholeInk.removeEventListener("pointermove", drag), { once: true });
  });

  // --- Sound -----------------------------------------------------------------------------------------------------

  function play() {
    if (playing) return halt();
    const pressed = performance.now();
    context ??= new AudioContext({ sampleRate: buffers[0].sampleRate, latencyHint: "interactive" });
    context.resume();
    playing = together(context, buffers, levels(), current);
    const began = playing.began;
    const heard = () => {
      if (!playing) return;
      if (context.currentTime >= began && !root.dataset.startedMs) root.dataset.startedMs = (performance.now() - pressed + 1000 * (context.outputLatency || 0)).toFixed(1);
      draw();
      frame = requestAnimationFrame(heard);
    };
    delete root.dataset.startedMs;
    heard();
    show();
    return undefined;
  }

  function halt() {
    cancelAnimationFrame(frame);
    playing?.stop();
    playing = null;
    show();
    draw();
  }

  function take(number) {
    if (number < 0 || number >= buffers.length) return;
    if (playing) {
      const from = context.currentTime;
      root.dataset.switchedMs = ((playing.turn(number) - from) * 1000).toFixed(1);
    }
    current = number;
    show();
  }

  el("play").addEventListener("click", play);
  el("next").addEventListener("click", () => {
    if (pair) return take(pair[current === pair[0] ? 1 : 0]);
    return take((current + 1) % buffers.length);
  });
  el("equal").addEventListener("change", () => {
    playing?.louder(levels());
    showFacts();
  });
  root.querySelectorAll("[data-take]").forEach((button) => button.addEventListener("click", () => { if (!pair) take(Number(button.dataset.take)); }));

  function show() {
    el("play").textContent = playing ? word("Stop") : word("Play");
    root.querySelectorAll("[data-take]").forEach((button, number) => button.setAttribute("aria-pressed", String(number === current && !pair)));
    root.querySelectorAll("[data-hidden]").forEach((button) => button.setAttribute("aria-pressed", String(Boolean(pair) && pair[Number(button.dataset.hidden)] === current)));
    if (playing && !pair) say(word("Playing: {label}", { label: rows[current].dataset.label }));
    else if (playing) say(word("Playing: {label}", { label: pair[0] === current ? "X" : "Y" }));
  }

  function showFacts() {
    told.forEach((each, number) => {
      const own = figure(`${each.loudness_lufs.toFixed(1)} LUFS`.replace("-", "−"));
      const by = figure(`${each.gain_db.toFixed(1)} dB`.replace("-", "−"));
      rows[number].querySelector("[data-loudness]").textContent = el("equal").checked && Math.abs(each.gain_db) >= 0.05 ? word("{own}, played {by}", { own, by }) : own;
      if (!each.alike) rows[number].querySelector("[data-loudness]").textContent += ` · ${word("another sound here: it is not in step")}`;
    });
  }

  // --- Ink -------------------------------------------------------------------------------------------------------

  function draw() {
    rows.forEach((row, number) => drawVersion(row.querySelector("canvas"), buffers[number], number));
  }

  function drawVersion(canvas, buffer, number) {
    const width = canvas.clientWidth;
    if (!buffer || !width) return;
    const pen = sharp(canvas, width, TALL), colours = inks(root);
    pen.fillStyle = colours("rule");
    pen.fillRect(0, TALL / 2, width, 1);
    pen.fillStyle = number === current ? colours("ink") : colours("ink-3");
    const samples = buffer.getChannelData(0), each = samples.length / width, step = Math.max(1, Math.floor(each / 40));
    const level = levels()[number], tall = (value) => onCurve(value * level) * (TALL / 2 - 2);
    for (let x = 0; x < width; x += 1) {
      let low = 0, high = 0;
      for (let at = Math.floor(x * each); at < (x + 1) * each && at < samples.length; at += step) {
        low = Math.min(low, samples[at]);
        high = Math.max(high, samples[at]);
      }
      pen.fillRect(x, TALL / 2 - tall(high), 1, Math.max(1, tall(high) - tall(low)));
    }
    if (playing) {
      const into = (Math.max(0, context.currentTime - playing.began) % buffer.duration) / buffer.duration;
      pen.fillStyle = colours("pencil");
      pen.fillRect(into * width - 1, 0, 2, TALL);
    }
  }
  const drawAll = () => { draw(); drawWhole(); };
  new ResizeObserver(drawAll).observe(root);
  document.addEventListener("colours", drawAll);

  // --- Hidden names ----------------------------------------------------------------------------------------------

  const against = () => keys.indexOf(el("against").value);
  const wanted = () => keys.indexOf(el("told").value);

  function shuffle() {
    const versions = [against(), wanted()];
    if (versions[0] === versions[1]) {
      pair = null;
      el("blind-question").textContent = word("Choose two different versions.");
    } else {
      pair = crypto.getRandomValues(new Uint8Array(1))[0] % 2 ? versions : versions.reverse();
      el("blind-question").textContent = word("Which one is “{label}”?", { label: rows[wanted()].dataset.label });
    }
    root.querySelectorAll("[data-choose], [data-hidden]").forEach((button) => { button.disabled = !pair; });
    if (pair) take(pair[0]);
    show();
  }

  el("hide").addEventListener("click", () => {
    const hiding = root.classList.toggle("hiding");
    el("blind").hidden = !hiding;
    el("hide").textContent = hiding ? word("Show the names") : word("Hide the names");
    el("blind-said").textContent = "";
    if (hiding) shuffle();
    else {
      pair = null;
      show();
      draw();
    }
  });
  for (const id of ["against", "told"]) el(id).addEventListener("change", () => { el("blind-said").textContent = ""; shuffle(); });
  root.querySelectorAll("[data-hidden]").forEach((button) => button.addEventListener("click", () => { if (pair) take(pair[Number(button.dataset.hidden)]); }));
  root.querySelectorAll("[data-choose]").forEach((button) => button.addEventListener("click", () => choose(Number(button.dataset.choose))));

  async function choose(number) {
    if (!pair) return;
    const right = pair[number] === wanted();
    const said = await tell({ right: right ? "yes" : "no", start: start(), length: length() });
    if (said === null) return;
    el("blind-said").textContent = `${right ? word("Right.") : word("No, it was the other one.")} ${said}`;
    shuffle();
  }

  el("take-back").addEventListener("click", async () => {
    const said = pair && await tell({ do: "back" });
    if (said !== null) el("blind-said").textContent = said || word("There is no answer of yours.");
  });

  // What all answers so far are worth; null where the server did not take this one.
  async function tell(values) {
    const given = new URLSearchParams({ version: keys[wanted()], against: keys[against()], ...values });
    const { ok, body: found } = await posted(root.dataset.answer, given);
    if (!ok) {
      el("blind-said").textContent = found?.said ?? UNANSWERED;
      return null;
    }
    rows[keys.indexOf(found.key)].querySelector("[data-tally]").textContent = found.said;
    return found.said;
  }

  showStretch();
  fetchStretch();
  if (wholeInk) fetchWhole();
}
