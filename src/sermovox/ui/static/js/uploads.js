// Sends recordings by the tus protocol from a shared worker, so that pages can be left meanwhile. What broke off goes on
// from where it was: by itself when the line is back, or when the same file is chosen again.

importScripts("../vendor/tus.min.js");

const AT_ONCE = 3;
const RETRY_MS = [0, 500, 1000, 2000, 4000, 8000, 15000, 30000, 60000, 60000];
const TELL_MS = 200;
const SPEED_OVER_MS = 6000;
const RATE_OVER_MS = 30000;
const OPEN = ["waiting", "sending", "finishing", "broken"];
const GOING = ["waiting", "sending", "finishing"];
const MOST_SHOWN = 20;
const SHOWN_MS = 1500;

const ports = new Set();
const hasArrived = new Map(); // of each address how many have been taken in
const begun = new Map(); // and of how many something is there
const done = new Map(); // of each address how many bytes have arrived since something began to be sent there
const rates = new Map(); // of each address, and of all, how many bytes had been sent when
let entries = [];
let telling = 0;

const size = (bytes) => {
  const units = ["B", "kB", "MB", "GB"];
  let unit = 0;
  while (bytes >= 1000 && unit < 3) { bytes /= 1000; unit += 1; }
  return `${bytes.toFixed(unit > 1 ? 1 : 0)} ${units[unit]}`;
};
// What is said is put into the reader's language by the page: sentences with names for what varies.
const left = (seconds) => (seconds < 90 ? ["about {count} s left", { count: Math.max(1, Math.ceil(seconds)) }] : ["about {count} min left", { count: Math.round(seconds / 60) }]);

function join(port) {
  ports.add(port);
  port.onmessage = ({ data }) => commands[data.do](data);
  port.start?.();
  tell();
}

// How many are open for these addresses; how much of what began with them is sent, and how fast.
function sums(addresses, some, name) {
  const open = some.filter((entry) => GOING.includes(entry.state));
  const sum = (of) => open.reduce((whole, entry) => whole + of(entry), 0);
  const before = addresses.reduce((whole, address) => whole + (done.get(address) ?? 0), 0);
  const sent = before + sum((entry) => entry.sent);
  if (!open.length) rates.delete(name);
  return { count: open.length, bytes: before + sum((entry) => entry.size), sent, speed: open.length ? rate(name, sent) : 0 };
}

function rate(name, sent) {
  if (!rates.has(name)) rates.set(name, []);
  return speedOf(rates.get(name), sent, RATE_OVER_MS);
}

// How many bytes a second, of late. What is given up makes it less than nothing for a while: then nothing is known.
function speedOf(marks, sent, overMs) {
  const now = performance.now();
  marks.push([now, sent]);
  while (now - marks[0][0] > overMs) marks.shift();
  const [then, before] = marks[0];
  return now > then ? Math.max(0, (sent - before) / ((now - then) / 1000)) : 0;
}

// Of a thousand files a page is told of those that something happens to, and how many more there are.
function told(address, some) {
  const first = [...some.filter((entry) => entry.state !== "waiting"), ...some.filter((entry) => entry.state === "waiting")].slice(0, MOST_SHOWN);
  const shown = some.filter((entry) => first.includes(entry)).map(({ id, name, sent, share, state, said }) => ({ id, name, sent, share, state, said }));
  return { address, page: some[0]?.page ?? "", ...sums([address], some, address), broken: some.some((entry) => entry.state === "broken"), begun: begun.get(address) ?? 0, arrived: hasArrived.get(address) ?? 0, shown, more: some.length - shown.length };
}

function tell() {
  telling = 0;
  // A place of which nothing is left is told of for as long as it is known what arrived there.
  const places = new Map([...hasArrived.keys()].map((address) => [address, []]));
  for (const entry of entries) {
    if (!places.has(entry.address)) places.set(entry.address, []);
    places.get(entry.address).push(entry);
  }
  for (const [address, some] of places) if (!some.some((entry) => OPEN.includes(entry.state))) done.delete(address);
  const message = { ...sums([...places.keys()], entries, ""), places: [...places].map(([address, some]) => told(address, some)) };
  for (const port of ports) port.postMessage(message);
}

const counted = (counts, address) => counts.set(address, (counts.get(address) ?? 0) + 1);

function changed(entry, facts) {
  Object.assign(entry, facts);
  telling ||= setTimeout(tell, TELL_MS);
}

const commands = {
  take({ address, page, token, batch, files, section = "" }) {
    files.forEach((file, rank) => entries.push({
      id: crypto.randomUUID(), address, page, token, batch, rank, section, file, name: file.name, size: file.size,
      sent: 0, share: 0, marks: [], state: "waiting", said: "waiting",
    }));
    next();
    tell();
  },
  stop({ id }) {
    leave(entries.filter((entry) => entry.id === id));
  },
  "stop all"({ address }) {
    leave(entries.filter((entry) => entry.address === address));
  },
  again({ id, token }) {
    const entry = entries.find((e) => e.id === id && e.state === "broken");
    if (entry) changed(entry, { token, state: "waiting", said: "waiting" });
    next();
  },
};

// What the server has been asked to begin is given up once it has said where.
function leave(some) {
  entries = entries.filter((entry) => !some.includes(entry));
  for (const entry of some) if (OPEN.includes(entry.state) && entry.upload?.url) giveUp(entry);
  next();
  tell();
}

const giveUp = (entry) => entry.upload.abort(true).catch(() => {});

function next() {
  const free = AT_ONCE - entries.filter((e) => e.state === "sending").length;
  for (const entry of entries.filter((e) => e.state === "waiting").slice(0, Math.max(0, free))) send(entry);
}

async function send(entry) {
  changed(entry, { state: "sending", said: "beginning", marks: [] });
  entry.upload = new tus.Upload(entry.file, {
    endpoint: entry.address,
    uploadUrl: await begunBefore(entry),
    headers: { "X-CSRFToken": entry.token },
    metadata: {
      filename: entry.name, batch: entry.batch, rank: String(entry.rank), modified: String(entry.file.lastModified),
      section: entry.section,
    },
    retryDelays: RETRY_MS,
    storeFingerprintForResuming: false,
    onUploadUrlAvailable: () => { if (!entries.includes(entry)) giveUp(entry); },
    onProgress: (sent) => progressed(entry, sent),
    onError: (error) => failed(entry, error),
    onSuccess: () => arrived(entry),
  });
  if (entries.includes(entry)) entry.upload.start();
}

// The address of an upload of this very file that is not whole yet, if there is one.
async function begunBefore(entry) {
  try {
    const { uploads } = await (await fetch(entry.address)).json();
    const busy = entries.map((e) => e.upload?.url).filter(Boolean);
    const same = uploads.find((u) => u.name === entry.name && u.size === entry.size
      && u.modified === entry.file.lastModified && !busy.some((url) => url.endsWith(u.address)));
    return same ? new URL(same.address, location.origin).href : null;
  } catch {
    return null;
  }
}

function progressed(entry, sent) {
  const speed = speedOf(entry.marks, sent, SPEED_OVER_MS);
  const rest = speed > 0 ? [[", {speed}/s, ", { speed: size(speed) }], left((entry.size - sent) / speed)] : [];
  const said = [["{sent} of {whole}", { sent: size(sent), whole: size(entry.size) }], ...rest];
  if (sent && !entry.sent) counted(begun, entry.address);
  changed(entry, { sent, share: entry.size ? sent / entry.size : 1, said });
}

async function arrived(entry) {
  changed(entry, { state: "finishing", share: 1, sent: entry.size, said: "looking at it" });
  next();
  let answer;
  do {
    try {
      answer = await (await fetch(entry.upload.url)).json();
    } catch {
      answer = { state: "finishing" };
    }
    if (answer.said) changed(entry, { said: answer.said });
    if (answer.state === "finishing" || answer.state === "arriving") await new Promise((wake) => setTimeout(wake, 700));
  } while (answer.state === "finishing" || answer.state === "arriving");
  if (answer.state === "refused") changed(entry, { state: "failed", said: answer.said });
  else {
    counted(hasArrived, entry.address);
    done.set(entry.address, (done.get(entry.address) ?? 0) + entry.size);
    changed(entry, { state: answer.said ? "noted" : "arrived", said: answer.said || "here" });
    if (!answer.said) setTimeout(() => { entries = entries.filter((each) => each !== entry); changed(entry, {}); }, SHOWN_MS);
  }
}

function failed(entry, error) {
  if (!entries.includes(entry)) return;
  const status = error.originalResponse?.getStatus() ?? 0;
  if (status === 413) {
    changed(entry, { state: "failed", said: error.originalResponse.getBody() });
  } else if (status === 507) {
    changed(entry, { state: "broken", said: error.originalResponse.getBody() });
  } else if (status === 403) {
    changed(entry, { state: "broken", said: "You were signed out. Sign in, come back to this page, then go on." });
  } else if (status === 404) {
    changed(entry, { state: "failed", said: "The production is not there any more." });
  } else {
    changed(entry, { state: "broken", said: "The connection broke off. It goes on when the line is back." });
  }
  next();
}

addEventListener("online", () => {
  for (const entry of entries) if (entry.state === "broken") changed(entry, { state: "waiting", said: "waiting" });
  next();
});

if ("SharedWorkerGlobalScope" in self) addEventListener("connect", (event) => join(event.ports[0]));
else join(self);
