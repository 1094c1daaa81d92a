// On every page: how far the recordings are that are being sent meanwhile.

import { listen, somethingIsSent, together } from "./uploads-port.js";

if (somethingIsSent()) {
  const line = document.querySelector("#under-way");
  listen((all) => {
    const open = together(all);
    line.hidden = open.count === 0;
    line.textContent = open.said;
    const page = all.places.find((place) => place.page)?.page;
    if (page) line.href = page;
  });
}
