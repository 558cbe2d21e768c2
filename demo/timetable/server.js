"use strict";

const berth = require("berth");
const { html } = require("kelp");
const { signal } = require("@kestrel/flags");
const { clock } = require("tidewords");
const sailings = require("./sailings.json");

const harbour = process.env.HARBOUR ?? "the harbour";
const port = Number(process.env.PORT ?? 8080);

const rows = () =>
  sailings.map(({ ferry, to, minutes, state }) => ({ time: clock(minutes), to, ferry, state }));

const page = () => html`<!DOCTYPE html>
<html lang="en">
<title>Sailings today</title>
<h1>Sailings from ${harbour} today</h1>
<table>
${rows().map((r) => html`<tr><td>${r.time}<td>${r.to}<td>${r.ferry}<td>${signal(r.state)} ${r.state}\n`)}</table>
`;

berth()
  .route("/", () => [200, "text/html; charset=utf-8", page().toString()])
  .route("/sailings.json", () => [200, "application/json", JSON.stringify(rows()) + "\n"])
  .route("/healthz", () => [200, "text/plain", "well\n"])
  .listen(port, () => console.log(`timetable listens on port ${port}`));
