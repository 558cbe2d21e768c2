"use strict";

/** The signal that a ferry shows for a state of service. */
exports.signal = (state) => ({ sailing: "▲", delayed: "◆", cancelled: "■" })[state] ?? "?";
