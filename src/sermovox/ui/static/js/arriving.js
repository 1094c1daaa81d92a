// On every page: how far the recordings are that are being sent meanwhile.

import { listen, somethingIsSent, together } from "./uploads-port.js";

if (somethingIsSent()) {
  const line = document.querySelector("#under-way");
  listen((entries) => {
    const open = together(entries);
    line.hidden = open.count === 0;
    line.textContent = open.said;
    const page = entries.find((entry) => entry.page)?.page;
    if (page) line.href = page;
  });
}
