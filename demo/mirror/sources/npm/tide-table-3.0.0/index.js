"use strict";

const PERIOD = 745; // minutes between one high water and the next

/** The turns of the tide on a day (counted from an invented first one): minutes and metres. */
exports.turns = (day) => {
  const first = (day * 50) % PERIOD;
  const turns = [];
  for (let at = first - PERIOD; at < 24 * 60; at += PERIOD / 2) {
    const high = Math.round((at - first) / (PERIOD / 2)) % 2 === 0;
    if (at >= 0) turns.push({ minutes: Math.round(at), metres: high ? 3.4 : 0.8 });
  }
  return turns;
};
