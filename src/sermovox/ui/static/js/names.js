// Fields and whole patterns are put into the pattern by a click.

const form = document.querySelector("#names");
const pattern = form.querySelector("#pattern");

form.addEventListener("click", (event) => {
  const put = event.target.closest("[data-put]")?.dataset.put;
  const whole = event.target.closest("[data-pattern]")?.dataset.pattern;
  if (put) pattern.setRangeText(put, pattern.selectionStart, pattern.selectionEnd, "end");
  else if (whole !== undefined) pattern.value = whole;
  else return;
  pattern.focus();
  htmx.trigger(form, "again");
});
