// What a page is told by its server, and by a line that breaks: over a real one, on loopback.

import assert from "node:assert/strict";
import { createServer } from "node:http";
import { after, before, test } from "node:test";

globalThis.document = {
  getElementById: () => null, documentElement: { lang: "en" },
  body: { getAttribute: () => '{"X-CSRFToken": "asked"}' },
};
const { UNANSWERED, fetched, posted } = await import("../../static/js/asking.js");

const answers = {
  "/json": (request, answer) => answer.end('{"said": "so"}'),
  "/nothing": (request, answer) => answer.writeHead(204).end(),
  "/broken": (request, answer) => { answer.writeHead(200, { "Content-Length": 100 }).write("{"); setTimeout(() => answer.destroy(), 20); },
  "/sign-in": (request, answer) => answer.end("<!doctype html>"),
  "/trouble": (request, answer) => answer.writeHead(500).end("<!doctype html>"),
  "/refused": (request, answer) => answer.writeHead(422).end('{"said": "no"}'),
  "/echo": async (request, answer) => answer.end(JSON.stringify({ ...request.headers, sent: (await request.toArray()).join("") })),
};
let server, address;
before(async () => {
  server = createServer((request, answer) => answers[request.url](request, answer));
  await new Promise((wake) => server.listen(0, "127.0.0.1", wake));
  address = `http://127.0.0.1:${server.address().port}`;
});
after(() => server.close());

const NONE = { ok: false, status: 0, body: null };

test("an answer comes whole, with what it holds", async () => {
  assert.deepEqual(await fetched(`${address}/json`), { ok: true, status: 200, body: { said: "so" } });
  assert.deepEqual(await fetched(`${address}/nothing`), { ok: true, status: 204, body: null });
  assert.deepEqual(await fetched(`${address}/json`, "text"), { ok: true, status: 200, body: '{"said": "so"}' });
  assert.equal((await fetched(`${address}/json`, "bytes")).body.byteLength, 14);
});

test("one that breaks off, or never comes, is none", async () => {
  for (const as of ["json", "text", "bytes"]) assert.deepEqual(await fetched(`${address}/broken`, as), NONE);
  assert.deepEqual(await fetched("http://127.0.0.1:1/"), NONE);
});

test("a page to sign in is no answer, trouble is told by its status", async () => {
  assert.deepEqual(await fetched(`${address}/sign-in`), NONE);
  assert.deepEqual(await fetched(`${address}/trouble`), { ok: false, status: 500, body: null });
  for (const as of ["json", "bytes"]) assert.deepEqual(await fetched(`${address}/refused`, as), { ok: false, status: 422, body: { said: "no" } });
});

test("values go as a form or as JSON, with what shows where they come from", async () => {
  const asForm = (await posted(`${address}/echo`, new URLSearchParams({ text: "a b" }))).body;
  assert.equal(asForm.sent, "text=a+b");
  assert.match(asForm["content-type"], /^application\/x-www-form-urlencoded/);
  const asJson = (await posted(`${address}/echo`, { text: "a b" })).body;
  assert.deepEqual([asJson.sent, asJson["content-type"], asJson["x-csrftoken"]], ['{"text":"a b"}', "application/json", "asked"]);
  assert.match(UNANSWERED, /did not answer/);
});
