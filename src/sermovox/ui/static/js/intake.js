// Takes dropped or chosen files and folders, hands them to the worker that sends them, and shows how far each is.

import { droppedFiles, leftOut, sounding } from "./dropped.js";
import { listen, tell, together } from "./uploads-port.js";
import { phrase, word } from "./words.js";

const REFRESHED_EVERY_MS = 1000;
const NOTHING = { count: 0, bytes: 0, sent: 0, speed: 0, begun: 0, arrived: 0, shown: [], more: 0 };
let refreshing = 0;

// Many may arrive within a second; the rows are drawn once for all of them.
function refresh() {
  refreshing ||= setTimeout(draw, REFRESHED_EVERY_MS);
}

async function draw() {
  // Asked for by the page, not by the rows: those may be asking already.
  const rows = document.querySelector("#rows");
  await htmx.ajax("GET", rows.getAttribute("hx-get"), { target: "#rows", swap: "in-place" });
  refreshing = 0;
}

document.addEventListener("alpine:init", () => {
  Alpine.data("intake", (address, token) => ({
    over: false,
    entries: [],
    more: "",
    before: null,
    leftOut: "",
    meant: null, // a file that was dropped onto a section: { file, section, title }
    all: { count: 0, share: 0, said: "" },

    init() {
      listen(({ places }) => this.show(places.find((place) => place.address === address) ?? NOTHING));
      // Files may have been chosen before this script was there.
      this.$nextTick(() => {
        for (const chooser of this.$root.querySelectorAll("input[type=file]")) {
          if (chooser.files.length) this.take([...chooser.files]);
          chooser.value = "";
        }
      });
    },

    show(place) {
      const before = this.before ?? place;
      if (place.arrived !== before.arrived) refresh();
      if (place.begun !== before.begun) htmx.trigger("#arrivals", "again");
      this.before = { arrived: place.arrived, begun: place.begun };
      this.entries = place.shown;
      this.more = place.more ? word("and {count} more", { count: place.more }) : "";
      this.all = together(place);
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
      tell({ do: "stop all", address });
    },
  }));
});
