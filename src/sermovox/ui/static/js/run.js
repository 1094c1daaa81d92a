// Tells how a run goes: in the title of the tab and, where allowed, by a notification of the browser.

let wasRunning = false;

function look() {
  const run = document.querySelector("#run");
  if (!run) return;
  document.title = run.dataset.title;
  const running = run.dataset.running === "yes";
  if (wasRunning && !running && "Notification" in window && Notification.permission === "granted") {
    new Notification("Sermovox", { body: run.dataset.said });
  }
  wasRunning = running;
  const ask = document.querySelector("[data-ask-notice]");
  if (ask) ask.hidden = !("Notification" in window) || Notification.permission !== "default" || !running;
}

document.addEventListener("click", (event) => {
  if (event.target.closest("[data-ask-notice]")) Notification.requestPermission().then(look);
});
document.addEventListener("htmx:afterSettle", look);
look();
