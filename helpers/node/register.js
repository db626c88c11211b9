/** For `node --require outcrop-helper/register`, behind whatever sets the SDK up. */
"use strict";

if (!require("./index.js").install()) {
  console.error("outcrop-helper: no OpenTelemetry SDK is set up before it; nothing is added");
}
