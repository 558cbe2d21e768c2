"use strict";

const SIGNS = { "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;", "'": "&#39;" };

class Markup extends String {}

const escape = (value) => {
  if (value instanceof Markup) return value.toString();
  if (Array.isArray(value)) return value.map(escape).join("");
  return String(value ?? "").replace(/[&<>"']/g, (sign) => SIGNS[sign]);
};

/** A tag for template literals: what is put in is escaped, unless it is markup itself. */
exports.html = (parts, ...values) =>
  new Markup(parts.reduce((text, part, i) => text + escape(values[i - 1]) + part));
