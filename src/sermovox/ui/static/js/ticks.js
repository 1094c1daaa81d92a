// One box above a list ticks all of it.

document.addEventListener("change", (event) => {
  const boxes = [...document.querySelectorAll("input[data-one]")];
  const all = document.querySelector("#all");
  if (event.target === all) boxes.forEach((box) => (box.checked = all.checked));
  else if (all && event.target.matches("[data-one]")) all.checked = boxes.every((box) => box.checked);
});
