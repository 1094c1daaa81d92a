// A form that keeps what it is given at once: a choice when it is made, a day or a word when its field is left, as those
// are typed part by part.

const kept = (field) => field.form?.matches("form.by-change") && field.form.requestSubmit();

document.addEventListener("change", (event) => event.target.matches("select") && kept(event.target));
document.addEventListener("change", (event) => event.target.matches("[data-submits]") && event.target.form.requestSubmit());
document.addEventListener("focusout", (event) => {
  const field = event.target;
  if (field.matches("input") && field.value !== field.defaultValue && field.checkValidity()) kept(field);
});
