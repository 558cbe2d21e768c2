"use strict";

const { tie } = require("knots");

/** Minutes after midnight as `07:05`. */
exports.clock = (minutes) =>
  tie([Math.floor(minutes / 60) % 24, minutes % 60].map((n) => String(n).padStart(2, "0")), ":");

/** A height in metres as words. */
exports.height = (metres) => tie([metres.toFixed(1), "m", metres > 2 ? "high" : "low"]);
