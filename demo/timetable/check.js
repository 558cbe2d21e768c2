"use strict";

// For development: this file's package is not in the image.
const { check } = require("lamplight");
const sailings = require("./sailings.json");

check("every sailing has a ferry", sailings.every((s) => s.ferry));
