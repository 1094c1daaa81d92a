// The drawn shape of what is on view: groups of lines are fetched as they are needed and the oldest forgotten.

import { store } from "./store.js";
import { fetched } from "../asking.js";
import { placed } from "../pairs.js";

export const GROUP = 6;
const MOST_GROUPS = 60; // of each voice
const AT_ONCE = 3;
const AGAIN_MS = 1000;
const COLUMNS = 1024; // to a line; wide screens have more

const groups = new Map();
let wanted = [];
let running = 0;

const columnsOf = (width) => (width <= COLUMNS ? COLUMNS : Math.ceil(width / 512) * 512);
const key = (group, columns, lane) => `${store.settings.perLine} ${columns} ${group} ${lane ? `${lane.recording} ${lane.offset_samples}` : ""}`;

// The pairs of a line, of the recording or of a voice beside it, and where they lie; null while they are on their way.
export function peaksOf(line, width, lane = null) {
  const group = Math.floor(line / GROUP);
  const columns = columnsOf(width);
  const name = key(group, columns, lane);
  const found = groups.get(name);
  if (found) {
    groups.delete(name);
    groups.set(name, found);
    return found.pairs ? { pairs: found.pairs, start: found.start, perPair: found.perPair } : null;
  }
  if (!wanted.some((each) => each.name === name)) wanted.push({ name, group, columns, lane, perLine: store.settings.perLine });
  next();
  return null;
}

function next() {
  // The last asked for is on view; what was scrolled past is let go.
  wanted = wanted.filter((each) => each.perLine === store.settings.perLine).slice(-8 * (1 + store.state.lanes.length));
  while (running < AT_ONCE && wanted.length) load(wanted.pop());
}

// In samples of the recording it is drawn from; a voice that begins later has its own.
function stretchOf(group, columnsOfLine, lane) {
  const later = lane?.offset_samples ?? 0;
  const start = Math.max(0, group * GROUP * store.lineFrames - later);
  const end = Math.max(start, Math.min(lane?.frames ?? store.frames, (group + 1) * GROUP * store.lineFrames - later));
  return { later, start, end, columns: Math.max(1, Math.ceil(((end - start) / store.lineFrames) * columnsOfLine)) };
}

function keep(name, { later, start, end, columns }, pairs) {
  const found = placed(pairs, start, end, columns);
  groups.set(name, { ...found, start: later + found.start });
}

// The first lines come with the page itself.
JSON.parse(document.querySelector("#page-peaks").textContent).forEach((text, group) => {
  const pairs = Int8Array.from(atob(text), (letter) => letter.charCodeAt(0));
  keep(key(group, COLUMNS), stretchOf(group, COLUMNS), pairs);
});

async function load(each) {
  running += 1;
  groups.set(each.name, { pairs: null });
  const stretch = stretchOf(each.group, each.columns, each.lane);
  const address = store.root.dataset.waveform.replace(`/${store.root.dataset.recording}/`, `/${each.lane?.recording ?? store.root.dataset.recording}/`);
  const { status, body } = await fetched(`${address}?start=${stretch.start}&end=${stretch.end}&columns=${stretch.columns}`, "bytes");
  if (status === 200) {
    keep(each.name, stretch, new Int8Array(body));
    while (groups.size > MOST_GROUPS * (1 + store.state.lanes.length)) groups.delete(groups.keys().next().value);
    store.tell("peaks");
  } else {
    setTimeout(() => { groups.delete(each.name); store.tell("peaks"); }, AGAIN_MS);
  }
  running -= 1;
  next();
}
