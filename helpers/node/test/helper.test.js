/** No value harms the service, secrets stay in it, and what is sent is within its limits. */
"use strict";

const assert = require("node:assert/strict");
const { test } = require("node:test");
const { framesOf, LIMITS, Thrown } = require("..");

let looked = 0;
class Hostile {
  metres = 12;
  ownerToken = "tok-planted";
  get price() {
    looked += 1;
    throw new Error("asked for its price");
  }
  toString() {
    looked += 1;
    throw new Error("asked to describe itself");
  }
  toJSON() {
    return this.toString();
  }
}

function quote(season) {
  const vehicle = new Hostile();
  const password = "low-" + "tide";
  const around = { itself: null, cars: [1, 2, 3] };
  around.itself = around;
  const many = Array.from({ length: 100_000 }, (_, number) => number);
  const long = "x".repeat(1_000_000);
  const later = (function* () {
    looked += 1;
    yield 1;
  })();
  const answers = new Map([["apiKey", "tok-in-map"], ["berth", 7]]);
  if (season) throw new RangeError(`no fare in ${season}`);
  return [vehicle, password, around, many, long, later, answers];
}

function thrownBy(act) {
  try {
    act();
  } catch (error) {
    return error;
  }
  throw new Error("nothing was thrown");
}

test("variables and source of own frames, without secrets, and nothing of the service is run", () => {
  const thrown = new Thrown(LIMITS);
  const error = thrownBy(() => quote("winter"));
  const text = framesOf(error, LIMITS, thrown);
  thrown.stop();
  const [frame] = JSON.parse(text);
  assert.equal(frame.function, "quote");
  assert.equal(frame.variables.season, '"winter"');
  assert.match(frame.variables.vehicle, /^Hostile \{metres: 12, ownerToken: \[removed: name\]/);
  assert.equal(frame.variables.password, "[removed: name]");
  assert.match(frame.variables.around, /itself/);
  assert.match(frame.variables.answers, /"apiKey": \[removed: name\]/);
  assert.ok(frame.source.lines.some((line) => line.includes("throw new RangeError")));
  assert.ok(!/tok-planted|tok-in-map/.test(JSON.stringify(frame.variables)) && !text.includes("low-tide"));
  assert.equal(looked, 0);
  assert.ok(text.length < 20_000, `${text.length} characters`);
});

test("a storm of exceptions is looked at a few times, and the rest still has its source", () => {
  const thrown = new Thrown(LIMITS);
  const fail = (number) => {
    throw new RangeError(`no berth ${number}`);
  };
  const errors = Array.from({ length: 500 }, (_, number) => thrownBy(() => fail(number)));
  const frames = errors.map((error) => JSON.parse(framesOf(error, LIMITS, thrown))[0]);
  thrown.stop();
  assert.ok(frames.filter((frame) => frame.variables).length <= 2 * LIMITS.perSecond);
  assert.ok(frames.every((frame) => frame.source));
});

test("what is no error, has no stack, or lies in libraries has no frames", () => {
  const strange = new Error("x");
  strange.stack = "Error: x\n    at run (/srv/node_modules/express/index.js:1:1)\n    at node:internal/main:1:1";
  for (const value of [undefined, null, 7, "text", {}, strange, { stack: 7 }]) assert.equal(framesOf(value), undefined);
  strange.stack = "Error: x\n    at gone (/nowhere/app.js:9:1)\n    at file:///nowhere/other.mjs:3:1";
  assert.deepEqual(JSON.parse(framesOf(strange)), [
    { file: "/nowhere/app.js", line: 9, function: "gone" },
    { file: "/nowhere/other.mjs", line: 3 },
  ]);
});
