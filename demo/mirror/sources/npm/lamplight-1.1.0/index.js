"use strict";

const { tie } = require("knots");

/** Says whether a check holds. */
exports.check = (name, holds) => console.log(tie([holds ? "lit" : "dark", name]));
