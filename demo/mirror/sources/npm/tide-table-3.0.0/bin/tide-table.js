#!/usr/bin/env node
"use strict";

const { turns } = require("..");

for (const { minutes, metres } of turns(Number(process.argv[2] ?? 0))) {
  console.log(`${minutes} min ${metres} m`);
}
