// Takes dropped or chosen files and folders, hands them to the worker that sends them, and shows how far each is.

import { listen, tell, together } from "./uploads-port.js";

const inOrder = new Intl.Collator(undefined, { numeric: true }).compare;
const UNSEEN = /^(\.|~|thumbs\.db$|desktop\.ini$)/i;
const NO_SOUND = /\.(txt|rtf|md|pdf|docx?|odt|epub|csv|tsv|xlsx?|ods|jpe?g|png|gif|webp|tiff?|svg|html?|xml|json|cue|log|zip|7z|rar)$/i;
const SHOWN_MS = 1500;

// All files below what was dropped; folders are walked through.
async function filesOf(entry) {
  if (entry.isFile) return [await new Promise((found, lost) => entry.file(found, lost))];
  const reader = entry.createReader();
  const all = [];
  for (;;) {
    const some = await new Promise((found, lost) => reader.readEntries(found, lost));
    if (!some.length) return all;
    for (const inner of some) if (!UNSEEN.test(inner.name)) all.push(...await filesOf(inner));
  }
}

function refresh() {
  // Asked for by the page, not by the rows: those may be on their way to being replaced and would forget it.
  const rows = document.querySelector("#rows");
  htmx.ajax("GET", rows.getAttribute("hx-get"), { target: "#rows", swap: "outerHTML" });
}

document.addEventListener("alpine:init", () => {
  Alpine.data("intake", (address, token) => ({
    over: false,
    entries: [],
    leftOut: "",
    all: { count: 0, share: 0, said: "" },

    init() {
      listen((everywhere) => this.show(everywhere.filter((entry) => entry.address === address)));
      // Files may have been chosen before this script was there.
      this.$nextTick(() => {
        for (const chooser of this.$root.querySelectorAll("input[type=file]")) {
          if (chooser.files.length) this.take([...chooser.files]);
          chooser.value = "";
        }
      });
    },

    show(entries) {
      for (const entry of entries) {
        const before = this.entries.find((e) => e.id === entry.id);
        if (entry.state === "arrived" && before?.state !== "arrived") {
          refresh();
          setTimeout(() => this.tell("stop", entry), SHOWN_MS);
        } else if (entry.state === "noted" && before?.state !== "noted") refresh();
        if (entry.sent && !before?.sent) htmx.trigger("#arrivals", "again");
      }
      this.entries = entries;
      this.all = together(entries);
    },

    hover(event) {
      if (!event.dataTransfer.types.includes("Files")) return;
      event.preventDefault();
      this.over = true;
    },

    async drop(event) {
      if (!event.dataTransfer.types.includes("Files")) return;
      event.preventDefault();
      this.over = false;
      const dropped = [...event.dataTransfer.items].map((item) => item.webkitGetAsEntry?.() ?? item.getAsFile()).filter(Boolean);
      const files = await Promise.all(dropped.map((entry) => (entry instanceof File ? [entry] : filesOf(entry))));
      this.take(files.flat());
    },

    take(files) {
      const seen = files.filter((file) => !UNSEEN.test(file.name));
      const silent = seen.filter((file) => NO_SOUND.test(file.name)).map((file) => file.name);
      this.leftOut = silent.length ? `Left out, because there is no sound in such files: ${silent.slice(0, 5).join(", ")}${silent.length > 5 ? ` and ${silent.length - 5} more` : ""}.` : "";
      const sound = seen.filter((file) => !NO_SOUND.test(file.name)).sort((a, b) => inOrder(a.name, b.name));
      if (sound.length) tell({ do: "take", address, page: location.pathname, token, batch: crypto.randomUUID(), files: sound });
    },

    tell(what, entry) {
      tell({ do: what, id: entry.id, token });
    },

    stopAll() {
      for (const entry of this.entries) this.tell("stop", entry);
    },
  }));
});
