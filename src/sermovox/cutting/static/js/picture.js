// A section in the ink of the page: its pieces in lines, in order, with their joins; ends are dragged under a magnifier.

import { fetched } from "./asking.js";
import { clock, inks, onCurve, sharp } from "./ink.js";
import { placed } from "./pairs.js";
import { word } from "./words.js";

const LINE_SECONDS = [5, 10, 15, 20, 30, 60, 120, 300, 600, 1200];
const MOST_LINES = 5;
const INK_TOP = 24, INK_TALL = 52, WORDS_TALL = 24;
const MARGIN = 58;
const AGAIN_MS = 1000;
const NUDGE_S = 0.01, FURTHER_S = 0.5;
const SHORTEST_S = 0.05;
const MOST_LATE = 140, NAME_WIDE = 170;
const LENS_WIDE = 520, LENS_TALL = 120, LENS_S = 0.06;

const root = document.querySelector("#picture");
const given = document.querySelector("#picture-of");
if (root && given) drawAll(JSON.parse(given.textContent));

function drawAll(pieces) {
  const whole = Math.max(...pieces.map((piece) => piece.end_s), 0.1);
  const perLine = LINE_SECONDS.find((seconds) => whole / seconds <= MOST_LINES) ?? whole / MOST_LINES;
  const lines = Math.max(1, Math.ceil(whole / perLine - 0.005));
  const tall = INK_TOP + INK_TALL + (pieces.some((piece) => piece.words.length) ? WORDS_TALL : 4);
  const canvas = document.createElement("canvas");
  canvas.setAttribute("aria-hidden", "true");
  root.append(canvas);
  let heardAt = 0;
  const drawn = new Map(); // of each span its pairs, null while they are on their way
  const wide = () => root.clientWidth - MARGIN;
  const placeOf = (seconds) => {
    const line = Math.min(lines - 1, Math.max(0, Math.floor(seconds / perLine)));
    return { line, x: MARGIN + ((seconds - line * perLine) / perLine) * wide(), y: line * tall };
  };
  const secondsAt = (x, y) => Math.min(whole, (Math.min(lines - 1, Math.max(0, Math.floor(y / tall))) + Math.min(1, Math.max(0, (x - MARGIN) / wide()))) * perLine);

  // --- Ink ---------------------------------------------------------------------------------------------------

  async function load(name, span, columns) {
    drawn.set(name, null);
    const address = root.dataset.waveform.replace("/0/", `/${span.recording}/`);
    const { status, body } = await fetched(`${address}?start=${span.start}&end=${span.end}&columns=${columns}`, "bytes");
    if (status === 200) drawn.set(name, placed(new Int8Array(body), span.start, span.end, columns));
    else setTimeout(() => { drawn.delete(name); redraw(); }, AGAIN_MS);
    redraw();
  }

  function pairsOf(span) {
    const columns = Math.max(1, Math.ceil(((span.end_s - span.start_s) / perLine) * wide()));
    const name = `${span.recording} ${span.start} ${span.end} ${columns}`;
    if (!drawn.has(name)) load(name, span, columns);
    return drawn.get(name);
  }

  // How much of a piece is let through at a moment: its gain, its fades, and the crossfades on either side.
  function throughAt(piece, next, seconds) {
    const into = seconds - piece.start_s, left = piece.end_s - seconds;
    const crossing = [piece.join === "crossfade" ? into / piece.join_s : 1, next?.join === "crossfade" ? left / next.join_s : 1];
    const fading = [piece.fade_in_s ? into / piece.fade_in_s : 1, piece.fade_out_s ? left / piece.fade_out_s : 1];
    return [...crossing, ...fading].reduce((share, each) => share * Math.sin((Math.PI / 2) * Math.min(1, Math.max(0, each))), 1);
  }

  // The loudest place fills its line, so that pieces are seen in relation.
  let loudest = 1 / 127;
  const heightOf = (value, louder) => onCurve((value / 127 / loudest) * louder) * (INK_TALL / 2);
  function findLoudest() {
    const peaks = pieces.flatMap((piece) => piece.spans.map((span) => {
      const found = span.tone ? null : pairsOf(span);
      return found ? (found.pairs.reduce((most, value) => Math.max(most, Math.abs(value)), 0) / 127) * 10 ** (span.gain_db / 20) : 0;
    }));
    loudest = Math.max(1 / 127, ...peaks);
  }

  function drawSpan(pen, piece, next, span, colours) {
    const found = pairsOf(span);
    if (!found || span.tone) return;
    const { pairs, start, perPair } = found;
    const count = pairs.length / 2, frames = span.end - span.start, louder = 10 ** (span.gain_db / 20);
    pen.fillStyle = piece.kind === "music" ? colours("ink-3") : colours("ink");
    for (let line = Math.floor(span.start_s / perLine); line <= Math.floor(span.end_s / perLine) && line < lines; line += 1) {
      const from = Math.max(0, Math.floor(((span.start_s - line * perLine) / perLine) * wide()));
      const to = Math.min(wide(), Math.ceil(((span.end_s - line * perLine) / perLine) * wide()));
      const middle = line * tall + INK_TOP + INK_TALL / 2;
      for (let x = from; x < to; x += 1) {
        const seconds = (line + x / wide()) * perLine;
        const at = (moment) => Math.floor((span.start + ((moment - span.start_s) / (span.end_s - span.start_s)) * frames - start) / perPair);
        const first = Math.max(0, at(seconds)), stop = Math.min(count, Math.max(first + 1, at(seconds + perLine / wide())));
        let low = 127, high = -127;
        for (let pair = first; pair < stop; pair += 1) {
          low = Math.min(low, pairs[2 * pair]);
          high = Math.max(high, pairs[2 * pair + 1]);
        }
        if (high < low) continue;
        const through = louder * throughAt(piece, next, seconds);
        const top = middle - heightOf(high, through);
        pen.fillRect(MARGIN + x, top, 1, Math.max(1, middle - heightOf(low, through) - top));
      }
    }
  }

  function eachLine(from, to, doing) {
    for (let line = Math.floor(from / perLine); line <= Math.floor(to / perLine) && line < lines; line += 1) {
      const a = Math.max(from, line * perLine), b = Math.min(to, (line + 1) * perLine);
      if (b > a) doing(line, MARGIN + ((a - line * perLine) / perLine) * wide(), MARGIN + ((b - line * perLine) / perLine) * wide(), a, b);
    }
  }

  // Many spans come in at once: they are drawn together.
  let due = false;
  function redraw() {
    if (due) return;
    due = true;
    requestAnimationFrame(() => {
      due = false;
      draw();
    });
  }

  function draw() {
    const width = root.clientWidth;
    if (width <= MARGIN) return;
    canvas.style.height = `${lines * tall}px`;
    const pen = sharp(canvas, width, lines * tall), colours = inks(root);
    pen.textBaseline = "middle";
    for (let line = 0; line < lines; line += 1) {
      pen.font = `14px ${colours("mono")}`;
      pen.fillStyle = colours("ink-2");
      pen.fillText(clock(line * perLine), 0, line * tall + INK_TOP + INK_TALL / 2);
      pen.fillStyle = colours("rule");
      const share = Math.min(1, whole / perLine - line);
      pen.fillRect(MARGIN, line * tall + INK_TOP + INK_TALL / 2, wide() * share, 1);
    }
    findLoudest();
    pieces.forEach((piece, at) => piece.spans.forEach((span) => drawSpan(pen, piece, pieces[at + 1], span, colours)));
    pieces.forEach((piece, at) => {
      drawJoin(pen, piece, colours);
      drawFades(pen, piece, colours);
      drawWords(pen, piece, pieces[at + 1], colours);
    });
    if (heardAt > 0) {
      const here = placeOf(heardAt);
      pen.fillStyle = colours("pencil");
      pen.fillRect(here.x - 1, here.y + INK_TOP - 4, 2, INK_TALL + 8);
    }
    placeEnds();
  }

  // A butt join is a stroke, a crossfade two lines that cross, room tone plain paper between dotted lines.
  function drawJoin(pen, piece, colours) {
    pen.strokeStyle = colours("pencil");
    pen.lineWidth = 1.5;
    if (piece.join === "butt") {
      const { x, y } = placeOf(piece.start_s);
      pen.strokeRect(x, y + INK_TOP - 2, 0, INK_TALL + 4);
    } else if (piece.join === "crossfade") {
      eachLine(piece.start_s, piece.start_s + piece.join_s, (line, a, b) => {
        pen.beginPath();
        pen.moveTo(a, line * tall + INK_TOP);
        pen.lineTo(b, line * tall + INK_TOP + INK_TALL);
        pen.moveTo(a, line * tall + INK_TOP + INK_TALL);
        pen.lineTo(b, line * tall + INK_TOP);
        pen.stroke();
      });
    } else if (piece.join === "pause") {
      eachLine(piece.start_s - piece.join_s, piece.start_s, (line, a, b) => {
        pen.fillStyle = colours("paper");
        pen.fillRect(a, line * tall + INK_TOP, b - a, INK_TALL);
        pen.setLineDash([2, 3]);
        for (const y of [INK_TOP + 2, INK_TOP + INK_TALL - 2]) {
          pen.beginPath();
          pen.moveTo(a, line * tall + y);
          pen.lineTo(b, line * tall + y);
          pen.stroke();
        }
        pen.setLineDash([]);
      });
    }
  }

  function drawFades(pen, piece, colours) {
    pen.strokeStyle = colours("ink-2");
    pen.lineWidth = 1.25;
    for (const [from, to, rises] of [[piece.start_s, piece.start_s + piece.fade_in_s, true], [piece.end_s - piece.fade_out_s, piece.end_s, false]]) {
      if (to <= from) continue;
      const heightAt = (seconds) => INK_TOP + INK_TALL / 2 - (INK_TALL / 2) * (rises ? (seconds - from) / (to - from) : (to - seconds) / (to - from));
      eachLine(from, to, (line, a, b, first, last) => {
        pen.beginPath();
        pen.moveTo(a, line * tall + heightAt(first));
        pen.lineTo(b, line * tall + heightAt(last));
        pen.stroke();
      });
    }
  }

  function drawWords(pen, piece, next, colours) {
    pen.font = `15px ${colours("serif")}`;
    pen.fillStyle = colours("ink");
    let free = -1, row = -1;
    for (const [seconds, text] of piece.words) {
      if (next?.join === "crossfade" && seconds > piece.end_s) break;
      const { line, x, y } = placeOf(seconds);
      if (line !== row) free = -1;
      row = line;
      const at = Math.max(x, free);
      const width = pen.measureText(text).width;
      // What is spoken faster than it can be set is left out rather than set on top of another.
      if (at - x > MOST_LATE || at + width > MARGIN + wide() + 4) continue;
      pen.fillText(text, at, y + INK_TOP + INK_TALL + WORDS_TALL / 2 - 2);
      free = at + width + 5;
    }
  }

  // --- Names, ends, and what is dragged ------------------------------------------------------------------------

  const ends = [], names = [];
  for (const piece of pieces) {
    const name = document.createElement("span");
    name.className = "piece-name";
    name.draggable = true;
    name.dataset.at = piece.at;
    const told = [`${piece.at + 1}`, piece.name];
    if (piece.kind === "music") told.push(word("music"));
    if (piece.gain_db) told.push(`${piece.gain_db > 0 ? "+" : "−"}${Math.abs(piece.gain_db)} dB`);
    if (piece.join === "crossfade") told.push(word("crossfade of {seconds} s", { seconds: piece.join_s }));
    if (piece.join === "pause") told.push(word("after {seconds} s of room tone", { seconds: piece.join_s }));
    name.textContent = told.join(" · ");
    name.title = told.join(" · ");
    root.append(name);
    names.push(name);
    for (const which of ["start", "end"]) {
      const end = document.createElement("button");
      end.type = "button";
      end.className = `piece-end ${which}`;
      end.setAttribute("aria-label", which === "start" ? word("Start of piece {number}", { number: piece.at + 1 }) : word("End of piece {number}", { number: piece.at + 1 }));
      root.append(end);
      ends.push({ end, piece, which });
      listenTo(end, piece, which);
    }
  }

  function placeEnds() {
    pieces.forEach((piece, at) => {
      const { x, y } = placeOf(piece.start_s);
      const after = pieces.slice(at + 1).map((each) => placeOf(each.start_s)).find((each) => each.y === y);
      // One that begins near the end of a line has its name before it.
      const from = after ? x : Math.max(MARGIN, Math.min(x, MARGIN + wide() - NAME_WIDE));
      names[at].style.transform = `translate(${from}px, ${y}px)`;
      names[at].style.maxWidth = `${Math.max(40, (after?.x ?? MARGIN + wide()) - from - 8)}px`;
    });
    for (const { end, piece, which } of ends) {
      const seconds = which === "start" ? piece.start_s : Math.max(piece.start_s, piece.end_s - 1e-6);
      const { x, y } = placeOf(seconds);
      end.style.transform = `translate(${x + (which === "start" ? 0 : -10)}px, ${y + INK_TOP - 3}px)`;
    }
  }

  const form = (at) => document.querySelector(`#set-${at}`);
  const field = (at, name) => form(at).elements[name];

  // Where the end would lie, in samples of its own recording, so far from where it is.
  function moved(piece, which, seconds) {
    const to = Math.round(piece[which] + seconds * piece.rate), least = Math.round(SHORTEST_S * piece.rate);
    return which === "start" ? Math.max(0, Math.min(piece.end - least, to)) : Math.min(piece.frames, Math.max(piece.start + least, to));
  }

  function listenTo(end, piece, which) {
    let from = null, to = piece[which];
    const show = () => showLens(piece, which, to, end);
    const keep = () => {
      if (to === piece[which]) return;
      field(piece.at, which).value = (to / piece.rate).toFixed(7);
      const button = form(piece.at).querySelector("[value=set]");
      form(piece.at).requestSubmit(button);
    };
    end.addEventListener("pointerdown", (event) => {
      event.preventDefault();
      end.setPointerCapture(event.pointerId);
      end.focus();
      from = event.clientX;
      show();
    });
    end.addEventListener("pointermove", (event) => {
      if (from === null) return;
      // A tenth as fast with Shift, for the last samples.
      to = moved(piece, which, (((event.clientX - from) / wide()) * perLine) / (event.shiftKey ? 10 : 1));
      show();
    });
    end.addEventListener("pointerup", () => {
      from = null;
      keep();
    });
    end.addEventListener("pointercancel", () => { from = null; to = piece[which]; hideLens(); });
    end.addEventListener("focus", show);
    end.addEventListener("blur", () => { to = piece[which]; hideLens(); });
    end.addEventListener("keydown", (event) => {
      const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      if (event.key === "Enter") keep();
      else if (event.key === "Escape") to = piece[which];
      else if (step) to = moved(piece, which, (to - piece[which]) / piece.rate + step * (event.shiftKey ? FURTHER_S : event.altKey ? 1 / piece.rate : NUDGE_S));
      else return;
      event.preventDefault();
      event.stopPropagation();
      show();
    });
  }

  // --- The magnifier at an end ---------------------------------------------------------------------------------

  const lens = document.querySelector("#edge-lens"), glass = lens.querySelector("canvas"), said = document.querySelector("#edge-said");
  let shown = "";

  function hideLens() {
    lens.hidden = true;
    shown = "";
  }

  async function showLens(piece, which, to, end) {
    const half = Math.round((LENS_S / 2) * piece.rate), first = Math.max(0, to - half), last = Math.min(piece.frames, to + half);
    const by = (to - piece[which]) / piece.rate;
    lens.hidden = false;
    const box = end.getBoundingClientRect(), own = root.getBoundingClientRect();
    lens.style.transform = `translate(${Math.max(0, Math.min(box.left - own.left - LENS_WIDE / 2, own.width - LENS_WIDE))}px, ${box.bottom - own.top + 6}px)`;
    said.textContent = by ? word("{at} in {name}, {by} s from where it is. Enter keeps it, Escape leaves it.", { at: clock(to / piece.rate, 4), name: piece.name, by: by.toFixed(3).replace("-", "−") }) : word("{at} in {name}. Drag, or arrow keys; Shift moves further, Alt by one sample.", { at: clock(to / piece.rate, 4), name: piece.name });
    const wanted = `${piece.recording} ${first} ${last}`;
    if (wanted === shown) return;
    shown = wanted;
    const { ok, body } = await fetched(`${root.dataset.samples.replace("/0/", `/${piece.recording}/`)}?start=${first}&end=${last}`, "bytes");
    if (!ok || shown !== wanted) return;
    drawLens(new Float32Array(body), first - to + half, to - half, half * 2, piece, which);
  }

  function drawLens(samples, begins, left, count, piece, which) {
    const pen = sharp(glass, LENS_WIDE, LENS_TALL), colours = inks(lens);
    // What does not sound lies on shaded paper.
    pen.fillStyle = colours("rule");
    pen.fillRect(which === "start" ? 0 : LENS_WIDE / 2, 0, LENS_WIDE / 2, LENS_TALL);
    const loudest = samples.reduce((most, value) => Math.max(most, Math.abs(value)), 0.002);
    pen.strokeStyle = colours("ink");
    pen.lineWidth = 1.25;
    pen.beginPath();
    samples.forEach((value, at) => pen.lineTo(((begins + at) / count) * LENS_WIDE, LENS_TALL / 2 - (value / loudest) * (LENS_TALL / 2 - 8)));
    pen.stroke();
    pen.fillStyle = colours("pencil");
    pen.fillRect(LENS_WIDE / 2 - 1, 0, 2, LENS_TALL);
  }

  // --- Pieces are moved, and recordings put in, by dragging ------------------------------------------------------

  let dragged = null;
  document.addEventListener("dragstart", (event) => {
    const { at, recording } = event.target.dataset ?? {};
    if (!event.target.closest?.(".piece-name, [data-recording]")) return;
    dragged = recording ? { recording } : { at: Number(at) };
    event.dataTransfer.effectAllowed = "copyMove";
    event.dataTransfer.setData("text/plain", event.target.textContent);
  });
  const dropAt = (event) => {
    const box = root.getBoundingClientRect();
    const seconds = secondsAt(event.clientX - box.left, event.clientY - box.top);
    return pieces.filter((piece) => (piece.start_s + piece.end_s) / 2 < seconds).length;
  };
  root.addEventListener("dragover", (event) => {
    if (!dragged) return;
    event.preventDefault();
    const to = dropAt(event);
    names.forEach((name, at) => name.classList.toggle("drop-here", at === to || (to === names.length && at === to - 1)));
  });
  root.addEventListener("drop", (event) => {
    if (!dragged) return;
    event.preventDefault();
    let to = dropAt(event);
    if (dragged.recording) {
      const adding = document.querySelector("#add-piece");
      adding.elements.recording.value = dragged.recording;
      adding.elements.to.value = to;
      return adding.requestSubmit(adding.querySelector("[value=add]"));
    }
    if (dragged.at < to) to -= 1;
    if (to === dragged.at) return undefined;
    const moving = document.querySelector(`#pieces tr[data-at="${dragged.at}"] form.move`);
    moving.elements.to.value = to;
    return moving.submit();
  });
  document.addEventListener("dragend", () => {
    dragged = null;
    names.forEach((name) => name.classList.remove("drop-here"));
  });

  // --- Hearing -------------------------------------------------------------------------------------------------

  canvas.addEventListener("click", (event) => {
    root.dispatchEvent(new CustomEvent("hear-from", { bubbles: true, detail: secondsAt(event.offsetX, event.offsetY) }));
  });
  document.addEventListener("heard-at", (event) => {
    heardAt = event.detail;
    redraw();
  });
  new ResizeObserver(redraw).observe(root);
  document.addEventListener("colours", redraw);
  document.fonts?.ready.then(redraw);
}
