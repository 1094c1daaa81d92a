// A rule sheet: rules are added and changed in their place; files are dropped to be checked.

import { word } from "./words.js";

document.addEventListener("change", (event) => {
  const select = event.target.closest("[data-add-rule]");
  if (!select?.value) return;
  const address = select.dataset.addRule.replace("NAME", select.value);
  const row = document.createElement("tr");
  select.closest("tbody").append(row);
  htmx.ajax("GET", address, { target: row, swap: "outerHTML" });
  select.value = "";
});

// What was saved changes other rules' lines too, so the whole sheet is shown anew.
document.addEventListener("htmx:beforeSwap", (event) => {
  const form = event.target.querySelector?.("[data-rule-form]");
  if (form && event.detail.xhr.responseText.startsWith('<div id="rule-sheet">')) {
    event.detail.target = document.querySelector("#rule-sheet");
    event.detail.swapOverride = "outerHTML";
  }
});

document.addEventListener("htmx:afterSwap", () => {
  const form = document.querySelector("[data-rule-form] [role=alert]")?.closest("form") ?? [...document.querySelectorAll("[data-rule-form]")].at(-1);
  form?.querySelector("select, input:not([type=hidden])")?.focus();
});

document.addEventListener("keydown", (event) => {
  if (event.key === "Escape" && event.target.closest("[data-rule-form]")) event.target.closest("[data-rule-form]").querySelector("[data-leave]").click();
});

const area = document.querySelector("#check");
const input = area?.querySelector("input[type=file]");
window.addEventListener("dragover", (event) => {
  event.preventDefault();
  area?.classList.add("over");
});
window.addEventListener("dragleave", (event) => {
  if (!event.relatedTarget) area?.classList.remove("over");
});
window.addEventListener("drop", (event) => {
  event.preventDefault();
  area?.classList.remove("over");
  if (!input || !event.dataTransfer.files.length) return;
  input.files = event.dataTransfer.files;
  area.requestSubmit();
});

// How much of the files has been sent, where that takes a while.
area?.addEventListener("htmx:xhr:progress", ({ detail }) => {
  const said = document.querySelector("#checking-now");
  if (detail.lengthComputable && detail.total) said.textContent = word("Sending, {share} % …", { share: Math.floor((100 * detail.loaded) / detail.total) });
});
