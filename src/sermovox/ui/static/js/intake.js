// Sends dropped or chosen recordings one after the other, so that they arrive in the order of their names, and shows
// how far each is.

const inOrder = new Intl.Collator(undefined, { numeric: true }).compare;

const size = (bytes) => {
  const units = ["B", "kB", "MB", "GB"];
  let unit = 0;
  while (bytes >= 1000 && unit < 3) { bytes /= 1000; unit += 1; }
  return `${bytes.toFixed(unit > 1 ? 1 : 0)} ${units[unit]}`;
};
const left = (seconds) => (seconds < 90 ? `${Math.ceil(seconds)} s left` : `${Math.round(seconds / 60)} min left`);

document.addEventListener("alpine:init", () => {
  Alpine.data("intake", (address, token) => ({
    over: false,
    files: [],

    take(list) {
      for (const file of [...list].sort((a, b) => inOrder(a.name, b.name))) {
        this.files.push({ id: crypto.randomUUID(), file, name: file.name, share: 0, said: "waiting", state: "waiting", request: null });
      }
      this.next();
    },

    next() {
      if (this.files.some((f) => f.state === "sending")) return;
      const entry = this.files.find((f) => f.state === "waiting");
      if (entry) this.send(entry);
    },

    send(entry) {
      const request = new XMLHttpRequest();
      const began = performance.now();
      entry.state = "sending";
      entry.request = request;
      request.upload.addEventListener("progress", (event) => {
        entry.share = event.loaded / event.total;
        const speed = event.loaded / ((performance.now() - began) / 1000);
        const seconds = (event.total - event.loaded) / speed;
        entry.said = `${size(event.loaded)} of ${size(event.total)}, ${size(speed)}/s, ${left(seconds)}`;
      });
      request.addEventListener("load", () => {
        let answer = {};
        try { answer = JSON.parse(request.responseText); } catch { /* a page instead of an answer */ }
        if (request.status === 200) this.arrived(entry, answer);
        else this.failed(entry, answer.problem ?? "The server did not take the file. Try once more.");
      });
      request.addEventListener("error", () => this.failed(entry, "The connection broke off. Send the file again."));
      request.addEventListener("abort", () => this.failed(entry, "Stopped."));
      request.open("POST", address);
      request.setRequestHeader("X-CSRFToken", token);
      request.setRequestHeader("X-File-Name", encodeURIComponent(entry.name));
      request.setRequestHeader("Content-Type", "application/octet-stream");
      request.send(entry.file);
    },

    arrived(entry, answer) {
      entry.state = answer.note ? "noted" : "arrived";
      entry.share = 1;
      entry.said = answer.note || "here";
      // Asked for by the page, not by the rows: those may be on their way to being replaced and would forget it.
      htmx.ajax("GET", document.querySelector("#rows").getAttribute("hx-get"), { target: "#rows", swap: "outerHTML" });
      if (!answer.note) setTimeout(() => this.forget(entry), 1500);
      this.next();
    },

    failed(entry, problem) {
      entry.state = "failed";
      entry.said = problem;
      this.next();
    },

    stop(entry) {
      if (entry.state === "sending") entry.request.abort();
      else this.forget(entry);
    },

    forget(entry) {
      this.files = this.files.filter((f) => f.id !== entry.id);
    },

    get busy() {
      return this.files.some((f) => f.state === "sending" || f.state === "waiting");
    },
  }));
});
