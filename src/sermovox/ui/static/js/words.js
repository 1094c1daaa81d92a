// What the scripts say, in the reader's language. English is the key, and stands where there is no other.
const known = JSON.parse(document.getElementById("words")?.textContent ?? "{}");
const language = document.documentElement.lang;
const POINT = (1.5).toLocaleString(language).slice(1, 2);

/** A figure written with a point, such as "12.5 MB", as the reader's language writes it. */
export const figure = (text) => String(text).replace(/(?<=\d)\.(?=\d)/g, POINT);

const FIGURE = /^[−-]?\d+\.\d+( \S+)?$/;
const shown = (value) => (FIGURE.test(value) ? figure(value) : value);

/** A sentence in the reader's language, with {names} in it for what varies. */
export const word = (english, values = {}) => (known[english] ?? english).replace(/\{(\w+)\}/g, (whole, name) => (name in values ? shown(values[name]) : whole));

/** What a worker says, which knows no language: a sentence, or several with what varies in each. */
export const phrase = (said) => (Array.isArray(said) ? said.map(([english, values]) => word(english, values)).join("") : word(said));
