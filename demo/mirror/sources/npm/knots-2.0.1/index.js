"use strict";

/** Splits a path into its names; version 1 had nothing like it, and this one no longer has `tie`. */
exports.splice = (path) => path.split("/").filter(Boolean);
