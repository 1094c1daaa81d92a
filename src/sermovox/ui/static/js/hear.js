// Buttons that play a short stretch, one at a time; pressed again, they stop it.

import { whyUnheard } from "./unheard.js";
import { word } from "./words.js";

const sound = new Audio();
let pressed = null;

function settle() {
  for (const button of document.querySelectorAll("[data-hear-this]")) button.setAttribute("aria-pressed", String(button === pressed));
}

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-hear-this]");
  if (!button) return;
  sound.pause();
  pressed = pressed === button ? null : button;
  settle();
  if (!pressed) return;
  sound.src = button.dataset.hearThis;
  sound.play().catch(() => { pressed = null; settle(); });
});
sound.addEventListener("ended", () => { pressed = null; settle(); });
sound.addEventListener("error", async () => {
  const line = document.querySelector("[data-hear-said]");
  pressed = null;
  settle();
  if (line) line.textContent = await whyUnheard(sound, word("This stretch cannot be played. Choose another one."));
});
