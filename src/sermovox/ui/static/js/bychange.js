// A form of one field that keeps what it is given at once: a choice when it is made, a day when its field is left, as a
// day is typed part by part.

const kept = (field) => field.form?.matches("form.by-change") && field.form.requestSubmit();

document.addEventListener("change", (event) => event.target.matches("select") && kept(event.target));
document.addEventListener("focusout", (event) => {
  const field = event.target;
  if (field.matches("input[type=date]") && field.value !== field.defaultValue && field.checkValidity()) kept(field);
});
