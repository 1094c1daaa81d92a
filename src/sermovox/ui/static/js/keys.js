// Keys of the screen: whatever carries data-key is pressed by that key, and "?" lists them all.

import { word } from "./words.js";

const typing = (target) => target.closest("input:not([type=checkbox]):not([type=radio]):not([type=range]), textarea, select");

function listed() {
  const seen = new Map();
  for (const element of document.querySelectorAll("[data-key]")) {
    seen.set(element.dataset.key, element.dataset.keyDoes ?? element.textContent.trim());
  }
  return seen;
}

function showKeys() {
  const body = document.querySelector("#keys tbody");
  body.replaceChildren();
  for (const [key, does] of [...listed(), ["?", word("Show this list")]]) {
    const row = body.insertRow();
    const shown = document.createElement("kbd");
    shown.textContent = key;
    row.insertCell().append(shown);
    row.insertCell().append(does);
  }
  bootstrap.Modal.getOrCreateInstance("#keys").show();
}

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
  if (document.querySelector(".modal.show, dialog[open]")) return;
  if (event.key === "?") {
    event.preventDefault();
    showKeys();
    return;
  }
  // What has focus is pressed by the space bar itself.
  if (event.key === " " && event.target.closest("button, a, summary, input, [role=menuitem]")) return;
  const element = [...document.querySelectorAll("[data-key]")].find((e) => e.dataset.key === event.key && !e.disabled);
  if (!element) return;
  event.preventDefault();
  if (element.matches("input[type=search]")) element.select();
  else element.click();
});
document.querySelector("[data-show-keys]")?.addEventListener("click", showKeys);
