"use strict";

// A worker: says the turns of the tide, day by day, until it is told to end.
const { turns } = require("tide-table");
const { clock, height } = require("tidewords");

let day = 0;
const say = () => {
  const words = turns(day).map(({ minutes, metres }) => `${clock(minutes)} ${height(metres)}`);
  console.log(`day ${day}: ${words.join(", ")}`);
  day += 1;
};

say();
setInterval(say, 1000);
process.on("SIGTERM", () => process.exit(0));
