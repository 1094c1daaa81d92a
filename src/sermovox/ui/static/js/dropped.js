// What was dropped or chosen: files and whole folders, and which of them can hold sound.

import { word } from "./words.js";

const inOrder = new Intl.Collator(undefined, { numeric: true }).compare;
const UNSEEN = /^(\.|~|thumbs\.db$|desktop\.ini$)/i;
const NO_SOUND = /\.(txt|rtf|md|pdf|docx?|odt|epub|csv|tsv|xlsx?|ods|jpe?g|png|gif|webp|tiff?|svg|html?|xml|json|cue|log|zip|7z|rar)$/i;

// All files below what was dropped; folders are walked through.
async function filesOf(entry) {
  if (entry.isFile) return [await new Promise((found, lost) => entry.file(found, lost))];
  const reader = entry.createReader();
  const all = [];
  for (;;) {
    const some = await new Promise((found, lost) => reader.readEntries(found, lost));
    if (!some.length) return all;
    for (const inner of some) if (!UNSEEN.test(inner.name)) all.push(...await filesOf(inner));
  }
}

// All files that were dropped: { files, folder }, the folder's name where it was one folder.
export async function droppedFiles(transfer) {
  const dropped = [...transfer.items].map((item) => item.webkitGetAsEntry?.() ?? item.getAsFile()).filter(Boolean);
  const files = await Promise.all(dropped.map((entry) => (entry instanceof File ? [entry] : filesOf(entry))));
  return { files: files.flat(), folder: dropped.length === 1 && dropped[0].isDirectory ? dropped[0].name : "" };
}

const seen = (files) => files.filter((file) => !UNSEEN.test(file.name));

// Those that may hold sound, in the order of their names.
export const sounding = (files) => seen(files).filter((file) => !NO_SOUND.test(file.name)).sort((a, b) => inOrder(a.name, b.name));

// What to say of those that cannot.
export function leftOut(files) {
  const silent = seen(files).filter((file) => NO_SOUND.test(file.name)).map((file) => file.name);
  if (!silent.length) return "";
  const names = silent.slice(0, 5).join(", ");
  if (silent.length > 5) return word("Left out, because there is no sound in such files: {names} and {more} more.", { names, more: silent.length - 5 });
  return word("Left out, because there is no sound in such files: {names}.", { names });
}
