// Takes dropped or chosen files and folders, hands them to the worker that sends them, and shows how far each is.

import { droppedFiles, leftOut, sounding } from "./dropped.js";
import { listen, tell, together } from "./uploads-port.js";
import { phrase } from "./words.js";

const SHOWN_MS = 1500;

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
    meant: null, // a file that was dropped onto a section: { file, section, title }
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
      this.mark(event.target.closest?.("tr[data-section]"));
    },

    mark(row) {
      for (const other of document.querySelectorAll("tr.drop-on")) if (other !== row) other.classList.remove("drop-on");
      row?.classList.add("drop-on");
    },

    async drop(event) {
      if (!event.dataTransfer.types.includes("Files")) return;
      event.preventDefault();
      this.over = false;
      const row = event.target.closest?.("tr[data-section]");
      this.mark(null);
      const { files } = await droppedFiles(event.dataTransfer);
      if (row && files.length === 1) this.give(files[0], row.dataset.section);
      else this.take(files);
    },

    // One file for one section: asked first where that has a recording.
    give(file, section) {
      const row = document.querySelector(`tr[data-section="${section}"]`);
      if (!row?.hasAttribute("data-recorded")) {
        this.take([file], section);
        return;
      }
      this.meant = { file, section, title: row.querySelector(".title").textContent };
      this.$nextTick(() => this.$refs.replacing.showModal());
    },

    // The answer: "replace", "beside" or nothing.
    answer(said) {
      const { file, section } = this.meant;
      this.$refs.replacing.close();
      if (said) this.take([file], said === "replace" ? section : "");
    },

    phrase,

    take(files, section = "") {
      this.leftOut = leftOut(files);
      const sound = sounding(files);
      if (sound.length) tell({ do: "take", address, page: location.pathname, token, batch: crypto.randomUUID(), files: sound, section });
    },

    tell(what, entry) {
      tell({ do: what, id: entry.id, token });
    },

    stopAll() {
      for (const entry of this.entries) this.tell("stop", entry);
    },
  }));
});
