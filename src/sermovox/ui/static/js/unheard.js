// Why nothing was heard.

import { word } from "./words.js";

// As browsers put it: nothing to sound on, which is no fault of the file.
const NO_DEVICE = /sinkaudio|cubeb|audio (?:device|output|renderer)/i;

/** What to say of an audio element that failed: that nothing can sound here, what the server says of it, or something else. */
export async function whyUnheard(audio, otherwise) {
  if (NO_DEVICE.test(audio.error?.message ?? "")) return word("This machine has no sound device, or none that the browser may use. Connect one, then play again.");
  const answer = await fetch(audio.currentSrc || audio.src, { headers: { Range: "bytes=0-99" } }).catch(() => null);
  return (await answer?.json().catch(() => null))?.said ?? otherwise;
}
