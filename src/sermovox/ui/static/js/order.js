// What of the running order is chosen: the outlet's column, the sections, and the words on the button.

function show() {
  const form = document.querySelector("#order");
  const button = document.querySelector("#make");
  if (!form || !button) return;
  const outlet = form.querySelector("input[name=outlet]:checked");
  const picked = form.querySelectorAll("input[name=section]:checked:not(:disabled)").length;
  for (const cell of form.querySelectorAll("[data-outlet]")) {
    cell.classList.toggle("chosen", cell.dataset.outlet === outlet?.value);
  }
  button.disabled = !picked || !outlet;
  const files = picked === 1 ? "1 file" : `${picked} files`;
  button.textContent = picked && outlet ? `Make ${files} for ${outlet.dataset.title}` : "Choose sections to make";
  const all = form.querySelector("#all");
  if (all) all.checked = picked > 0 && picked === form.querySelectorAll("input[name=section]:not(:disabled)").length;
}

document.addEventListener("change", (event) => {
  if (event.target.id === "all") {
    for (const box of document.querySelectorAll("input[name=section]:not(:disabled)")) box.checked = event.target.checked;
  }
  show();
});
document.addEventListener("htmx:afterSettle", show);
show();
