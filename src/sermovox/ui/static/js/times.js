// Points in time, in the reader's own time zone.
const written = new Intl.DateTimeFormat(document.documentElement.lang === "en" ? "en-GB" : document.documentElement.lang, { day: "numeric", month: "short", year: "numeric", hour: "2-digit", minute: "2-digit" });

function write() {
  for (const time of document.querySelectorAll("time[datetime]")) time.textContent = written.format(new Date(time.dateTime));
}

document.addEventListener("htmx:afterSettle", write);
write();
