// What the page knows: facts of the recording, the marks as the server has them, cursor, selection and settings.

const KEPT = "sermovox-page";
export const LINE_SECONDS = JSON.parse(document.querySelector("#page-line-seconds").textContent);

const kept = () => {
  try {
    return JSON.parse(localStorage.getItem(KEPT)) ?? {};
  } catch {
    return {};
  }
};

class Store extends EventTarget {
  constructor() {
    super();
    const root = document.querySelector("#page");
    Object.assign(this, {
      root,
      address: root.dataset.address,
      frames: Number(root.dataset.frames),
      rate: Number(root.dataset.rate),
      loudest: Math.max(0.02, 10 ** (Number(root.dataset.peak) / 20)),
      kinds: Object.fromEntries(JSON.parse(document.querySelector("#page-mark-kinds").textContent).map((kind) => [kind.name, kind])),
      others: JSON.parse(document.querySelector("#page-others").textContent),
      cursor: 0,
      anchor: null, // where the selection began; null without one
      cuts: [], // proposed places
      proposed: [], // proposed strikes
      pauses: { starts: [], ends: [], level_db: null, noise_db: null },
      settings: { snap: "", speed: "1", reaction_s: 0.25, remains: true, glass: false, shortest_s: 0.3, ...kept(), perLine: Number(root.dataset.perLine) },
    });
    this.take(JSON.parse(document.querySelector("#page-start").textContent));
  }

  get lineFrames() {
    return Math.round(LINE_SECONDS[this.settings.perLine] * this.rate);
  }

  get lines() {
    return Math.max(1, Math.ceil(this.frames / this.lineFrames));
  }

  get selection() {
    if (this.anchor === null || this.anchor === this.cursor) return null;
    return { start: Math.min(this.anchor, this.cursor), end: Math.max(this.anchor, this.cursor) };
  }

  // False until the server has answered for the first time where the pauses are.
  get pausesKnown() {
    return "between" in this.pauses;
  }

  // The state as the server sent it. Strikes are looked at again and again, so they are kept apart.
  take(state) {
    this.state = state;
    this.strikes = state.marks.filter((m) => m.kind === "strike");
    this.tell("state");
  }

  set(name, value) {
    this.settings[name] = value;
    // The server sends the first lines as they were last read.
    if (name === "perLine") document.cookie = `${this.root.dataset.kept}=${value}; path=/; max-age=31536000; samesite=lax`;
    try {
      localStorage.setItem(KEPT, JSON.stringify(this.settings));
    } catch { /* Not remembered, then. */ }
    this.tell("settings");
  }

  place(sample, { extend = false } = {}) {
    const at = Math.min(Math.max(0, Math.round(sample)), this.frames);
    if (extend && this.anchor === null) this.anchor = this.cursor;
    if (!extend) this.anchor = null;
    this.cursor = at;
    this.tell("cursor");
  }

  select(start, end) {
    this.anchor = Math.max(0, Math.round(start));
    this.cursor = Math.min(this.frames, Math.round(end));
    this.tell("cursor");
  }

  tell(what) {
    this.dispatchEvent(new Event(what));
  }

  on(names, doing) {
    for (const name of names.split(" ")) this.addEventListener(name, doing);
  }

  // The number of the pause a sample lies in, or of the first after it, negated and less one.
  pauseAt(sample) {
    const { starts, ends } = this.pauses;
    let low = 0, high = starts.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (ends[middle] <= sample) low = middle + 1;
      else high = middle;
    }
    return low < starts.length && starts[low] <= sample ? low : -low - 1;
  }

  // From the end of the pause before a place to the start of the one after it.
  phrase(sample) {
    const at = this.pauseAt(sample);
    if (at >= 0) return { start: this.pauses.starts[at], end: this.pauses.ends[at] };
    const next = -at - 1;
    return { start: next ? this.pauses.ends[next - 1] : 0, end: this.pauses.starts[next] ?? this.frames };
  }
}

export const store = new Store();

export const clock = (sample, digits = 0) => {
  const seconds = sample / store.rate;
  const whole = Math.floor(seconds + 1e-9);
  const rest = `${Math.floor((whole % 3600) / 60)}:${String(whole % 60).padStart(2, "0")}`;
  const long = whole >= 3600 ? `${Math.floor(whole / 3600)}:${rest.padStart(5, "0")}` : rest;
  return digits ? `${long}.${String(Math.floor((seconds - whole) * 10 ** digits + 1e-6)).padStart(digits, "0")}` : long;
};


export function say(words, wrong = false) {
  const line = document.querySelector("#page-said");
  line.textContent = words;
  line.classList.toggle("problem", wrong);
}

// What can wait until the lines are there.
export const whenIdle = (doing) => (window.requestIdleCallback ? requestIdleCallback(doing, { timeout: 1000 }) : setTimeout(doing, 200));
