"use strict";

/** Ties words together with one sign between them. */
exports.tie = (words, sign = " ") => words.filter(Boolean).join(sign);
