// The whole way in Firefox, over WebDriver BiDi: node firefox.mjs ADDRESS RECORDING TITLE. Prints what was seen, as JSON.
// SOUNDLESS in the environment says that this machine has no sound device.

import puppeteer from "puppeteer-core";

const [address, recording, title] = process.argv.slice(2);
const seen = { troubles: [] };
const browser = await puppeteer.launch({
  browser: "firefox",
  executablePath: process.env.FIREFOX,
  headless: true,
  extraPrefsFirefox: { "media.autoplay.default": 0, "media.cubeb.backend": "alsa", "intl.accept_languages": "en" },
});
try {
  const page = await browser.newPage();
  page.setDefaultTimeout(60000);
  page.on("pageerror", (error) => seen.troubles.push(String(error)));
  await page.setViewport({ width: 1280, height: 800 });
  const text = (selector) => page.$eval(selector, (found) => found.textContent.trim().replace(/\s+/g, " "));
  const until = (said, ...values) => page.waitForFunction(said, { polling: 100 }, ...values);

  await page.goto(address);
  await page.type("#begin-title", title);
  await Promise.all([page.waitForNavigation(), page.keyboard.press("Enter")]);
  seen.begun = await text("h1");

  const files = await page.$("input[type=file][multiple]:not([webkitdirectory])");
  await files.uploadFile(recording);
  await page.waitForSelector("#rows input[name=section]:not(:disabled)", { timeout: 120000 });
  const section = await page.$eval("#rows .title", (found) => found.href);
  // The rows are shown anew while they are worked on, and a click in the midst of that goes nowhere.
  while (!(await page.$eval("#to-volunteer-archive", (box) => box.checked))) await page.click("#to-volunteer-archive");
  await until(() => document.querySelector("#make").textContent.startsWith("Make 1 file"));
  await Promise.all([page.waitForNavigation(), page.click("#make")]);
  await page.waitForSelector("#run[data-running=no]");
  seen.made = await text("#run [role=status]");
  const zip = await page.$eval("a[href$='.zip']", (found) => found.href);
  seen.zip = await page.evaluate(async (from) => {
    const bytes = new Uint8Array(await (await fetch(from)).arrayBuffer());
    return btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(""));
  }, zip);

  const sheet = await page.$eval("#run tbody a", (found) => found.href);
  await page.goto(sheet);
  await page.waitForSelector("[data-player][data-started]");
  const player = await page.$$("[data-player]").then((found) => found.at(-1));
  await player.$("[data-play]").then((button) => button.click());
  if (process.env.SOUNDLESS) await until(() => [...document.querySelectorAll("[data-clock]")].some((found) => found.textContent.includes("sound device")));
  else await until(() => /^0:0[1-9]/.test([...document.querySelectorAll("[data-clock]")].at(-1).textContent));
  seen.player = await player.$eval("[data-clock]", (found) => found.textContent);

  await page.goto(section);
  await Promise.all([page.waitForNavigation(), page.keyboard.press("e")]);
  await page.waitForSelector(".line canvas");
  await until(() => document.querySelector("#pauses-said").textContent.includes("pauses between words"));
  await page.focus(".scroller");
  await page.keyboard.press("s");
  await until(() => document.querySelector("#chosen").textContent.includes("selected"));
  await page.keyboard.press("k");
  await page.waitForSelector("#contents .is-mark");
  seen.mark = await text("#contents .is-mark");
  await page.keyboard.press("Escape");
  await page.keyboard.press("Home");
  await until(() => document.querySelector("#where").textContent.startsWith("0:00.0"));
  await page.keyboard.press(" ");
  if (process.env.SOUNDLESS) await until(() => document.querySelector("#page-said").textContent.includes("sound device"));
  else await until(() => document.querySelector("#where").textContent > "0:01");
  seen.page = await text("#page-said");
  await page.keyboard.press("u");
  await until(() => !document.querySelector("#contents .is-mark"));
} finally {
  await browser.close();
}
process.stdout.write(JSON.stringify(seen));
