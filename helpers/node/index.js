/**
 * Variables and lines of source of own frames, and failures outside requests.
 *
 * For services that OpenTelemetry's SDK watches; what is sent is plain OpenTelemetry (docs/reference/attributes.md,
 * `outcrop.frames`). Everything works without this module: it only adds.
 *
 *     require("outcrop-helper").install();
 *
 * after the SDK is set up. No code of the service is run: a value is looked at as a debugger does, without its getters
 * and its `toString`.
 */
"use strict";

const fs = require("node:fs");
const inspector = require("node:inspector");
const { fileURLToPath } = require("node:url");
const { SpanKind, SpanStatusCode, trace } = require("@opentelemetry/api");

const ATTRIBUTE = "outcrop.frames";
/** Names whose values never leave the process. */
const SECRET = /passw|passphrase|pwd|secret|token|api_?key|auth|cookie|session|credential|private|signature/i;
const REMOVED = "[removed: name]";
/** Where a frame of a stack lies: `at quoteFor (/srv/fares/server.js:6:27)`. */
const FRAME = /^\s+at (?:async )?(?:(.*?) )?\(?((?:file:\/\/)?\/[^()]*):(\d+):\d+\)?$/;

/** What is sent of one failure at most, and what it may cost. */
const LIMITS = {
  /** Own frames, the innermost first. */
  frames: 5,
  /** Variables of a frame. */
  variables: 20,
  /** Characters of a value. */
  characters: 200,
  /** Lines of source before and after the frame's own. */
  lines: 3,
  /** Characters of a line of source. */
  width: 300,
  /** Exceptions a second whose variables are taken; those past them are sent without. */
  perSecond: 10,
};
/** Exceptions a second that the debugger stops at, those of libraries that nobody records among them. */
const STOPS = 200;
/** Failures whose variables wait to be asked for: one is recorded soon after it is thrown, or never. */
const WAITING = 50;
/** Files whose lines are held, and the largest of them in bytes. */
const FILES = 50;
const LARGEST = 2_000_000;

/** Puts something into a map that holds so many; the oldest makes room. */
function hold(map, key, value, most) {
  map.delete(key);
  map.set(key, value);
  if (map.size > most) map.delete(map.keys().next().value);
}

const isOwn = (file) => file.startsWith("/") && !file.includes("/node_modules/");

function pathOf(url) {
  try {
    return url.startsWith("file://") ? fileURLToPath(url) : url;
  } catch {
    return "";
  }
}

/** A value as the debugger describes it, as a short text. */
function said(value, characters) {
  const text = value ? whole(value) : "undefined";
  return text.length <= characters ? text : `${text.slice(0, characters)}…`;
}

function whole(value) {
  if (value.type === "string") return JSON.stringify(value.value);
  if (value.preview) return ofPreview(value.preview);
  if (value.type === "function") return "a function";
  if (value.unserializableValue !== undefined) return value.unserializableValue;
  return value.value === undefined ? (value.description ?? value.type) : String(value.value);
}

/** An object with what the debugger shows of it without running anything: five members, and those of these. */
function ofPreview({ subtype, description = "Object", properties = [], entries, overflow }) {
  const name = description.split("\n", 1)[0];
  if (["error", "regexp", "date", "proxy", "promise", "generator"].includes(subtype)) return name;
  const member = (one) => {
    if (one.type === "string") return JSON.stringify(one.value);
    if (one.type === "accessor") return "(a getter)";
    return one.valuePreview ? ofPreview(one.valuePreview) : (one.value ?? one.description ?? one.type);
  };
  const shown = entries
    ? entries.map(({ key, value }) => {
        const of = key && ofEntry(key);
        if (of === undefined) return ofEntry(value);
        return `${of}: ${SECRET.test(of) ? REMOVED : ofEntry(value)}`;
      })
    : properties.map((one) => {
        if (subtype === "array") return member(one);
        return `${one.name}: ${SECRET.test(one.name) ? REMOVED : member(one)}`;
      });
  if (overflow) shown.push("…");
  return subtype === "array" ? `[${shown.join(", ")}]` : `${name === "Object" ? "" : `${name} `}{${shown.join(", ")}}`;
}

function ofEntry(of) {
  return of.type === "string" ? JSON.stringify(of.description) : ofPreview(of);
}

/** What is thrown, looked at as it is thrown: the variables of its own frames. */
class Thrown {
  #session = new inspector.Session();
  #limits;
  #found = new Map();
  /** The service's own files, by their numbers in the debugger. */
  #own = new Map();
  #second = 0;
  #stops = 0;
  #looks = 0;

  constructor(limits) {
    this.#limits = limits;
    this.#session.connect();
    this.#session.on("Debugger.scriptParsed", ({ params: { scriptId, url } }) => {
      const file = pathOf(url);
      if (isOwn(file)) this.#own.set(scriptId, file);
    });
    this.#session.on("Debugger.paused", ({ params }) => quietly(() => this.#look(params)));
    this.#session.post("Debugger.enable");
    this.#session.post("Debugger.setPauseOnExceptions", { state: "all" });
  }

  /** The variables of an exception's frames, by file and line. */
  of(error) {
    return this.#found.get(error.stack) ?? new Map();
  }

  stop() {
    this.#session.disconnect();
  }

  #look({ reason, data, callFrames }) {
    if (this.#isStorm() || (reason !== "exception" && reason !== "promiseRejection")) return;
    // One that is thrown on is looked at where it was thrown first.
    if (data?.subtype !== "error" || this.#found.has(data.description)) return;
    const own = callFrames.filter(({ location }) => this.#own.has(location.scriptId)).slice(0, this.#limits.frames);
    if (own.length === 0 || this.#looks >= this.#limits.perSecond) return;
    this.#looks += 1;
    const frames = own.map(({ location, scopeChain }) => [
      `${this.#own.get(location.scriptId)}:${location.lineNumber + 1}`,
      this.#variables(scopeChain),
    ]);
    hold(this.#found, data.description, new Map(frames), WAITING);
  }

  /** Whether there are so many that looking must stop for a second: each stops the thread for a moment. */
  #isStorm() {
    const second = Math.floor(performance.now() / 1_000);
    if (second !== this.#second) [this.#second, this.#stops, this.#looks] = [second, 0, 0];
    this.#stops += 1;
    if (this.#stops < STOPS) return false;
    this.#session.post("Debugger.setPauseOnExceptions", { state: "none" });
    setTimeout(() => this.#session.post("Debugger.setPauseOnExceptions", { state: "all" }), 1_000).unref();
    return true;
  }

  #variables(scopes) {
    const found = {};
    for (const { type, object } of scopes) {
      if (type !== "local" && type !== "block") continue;
      const asked = { objectId: object.objectId, ownProperties: true, generatePreview: true };
      this.#session.post("Runtime.getProperties", asked, (error, answer) => {
        for (const { name, value } of error ? [] : answer.result) {
          if (Object.keys(found).length >= this.#limits.variables) break;
          found[name] ??= SECRET.test(name) ? REMOVED : said(value, this.#limits.characters);
        }
      });
    }
    return found;
  }
}

const files = new Map();

/** The lines of source around one, where the file is at hand. */
function sourceOf(file, line, { lines: around, width }) {
  let lines = files.get(file);
  if (lines === undefined) {
    try {
      lines = fs.statSync(file).size <= LARGEST ? fs.readFileSync(file, "utf8").split("\n") : [];
    } catch {
      lines = [];
    }
    hold(files, file, lines, FILES);
  }
  const first = Math.max(1, line - around);
  const shown = lines.slice(first - 1, line + around).map((one) => one.slice(0, width));
  return shown.length > 0 && line <= lines.length ? { first, lines: shown } : undefined;
}

/** The own frames of an exception with variables and lines of source, as JSON text; `undefined` where it has none. */
function framesOf(error, limits = LIMITS, thrown = undefined) {
  if (typeof error?.stack !== "string") return undefined;
  const variables = thrown?.of(error) ?? new Map();
  const found = [];
  for (const text of error.stack.split("\n")) {
    const [, name, place, number] = FRAME.exec(text) ?? [];
    const file = place && pathOf(place);
    if (!file || !isOwn(file)) continue;
    const line = Number(number);
    const one = { file, line };
    if (name) one.function = name;
    const of = variables.get(`${file}:${line}`);
    if (of && Object.keys(of).length > 0) one.variables = of;
    const source = sourceOf(file, line, limits);
    if (source) one.source = source;
    found.push(one);
    if (found.length >= limits.frames) break;
  }
  return found.length > 0 ? JSON.stringify(found) : undefined;
}

/** Telemetry never ends what it watches. */
function quietly(act) {
  try {
    return act();
  } catch {
    return undefined;
  }
}

/** Adds frames to the event of each exception that spans of a kind record. */
function watch(span, limits, thrown) {
  const kind = Object.getPrototypeOf(span);
  const { recordException, addEvent } = kind;
  if (typeof recordException !== "function" || typeof addEvent !== "function" || !span.isRecording()) return false;
  let recorded;
  kind.recordException = function (error, ...rest) {
    recorded = error;
    try {
      return recordException.call(this, error, ...rest);
    } finally {
      recorded = undefined;
    }
  };
  kind.addEvent = function (name, attributes, ...rest) {
    const frames = name === "exception" && recorded ? quietly(() => framesOf(recorded, limits, thrown)) : undefined;
    const isNew = frames && !(attributes && ATTRIBUTE in attributes);
    return addEvent.call(this, name, isNew ? { ...attributes, [ATTRIBUTE]: frames } : attributes, ...rest);
  };
  return true;
}

/** Reports what ends the process. */
function report(error, origin, limits, thrown) {
  const span = trace.getTracer("outcrop-helper").startSpan(`uncaught: ${origin}`, { kind: SpanKind.INTERNAL, root: true });
  const of = error instanceof Error ? error : new Error(String(error));
  const frames = quietly(() => framesOf(of, limits, thrown));
  span.addEvent("exception", {
    "exception.type": of.name,
    "exception.message": of.message,
    "exception.stacktrace": of.stack,
    "exception.escaped": true,
    ...(frames && { [ATTRIBUTE]: frames }),
  });
  span.setStatus({ code: SpanStatusCode.ERROR, message: of.message });
  span.end();
}

async function flush(milliseconds) {
  const provider = trace.getTracerProvider();
  const of = provider.getDelegate?.() ?? provider;
  const late = new Promise((done) => setTimeout(done, milliseconds));
  await Promise.race([Promise.resolve(quietly(() => of.forceFlush?.())).catch(() => undefined), late]);
}

let isInstalled = false;

/**
 * Adds source, and where `variables` is set variables, to the exceptions that spans record; reports what ends the
 * process. Call it once, after the SDK is set up. Returns whether an SDK is there.
 *
 * @param {{ variables?: boolean } & Partial<typeof LIMITS>} [options] `variables` is else what `OUTCROP_VARIABLES=1` says.
 */
function install(options = {}) {
  if (isInstalled) return true;
  const { variables = process.env.OUTCROP_VARIABLES === "1", ...changed } = options;
  const limits = { ...LIMITS, ...changed };
  // A span that is never ended is never sent.
  const sample = trace.getTracer("outcrop-helper").startSpan("sample", { root: true });
  const thrown = variables ? quietly(() => new Thrown(limits)) : undefined;
  isInstalled = watch(sample, limits, thrown);
  if (!isInstalled) {
    thrown?.stop();
    return false;
  }
  process.on("uncaughtExceptionMonitor", (error, origin) => quietly(() => report(error, origin, limits, thrown)));
  const last = async (error) => {
    // What the service does about it itself is its own; without that the process ends as it would have.
    if (process.listenerCount("uncaughtException") > 1) return;
    console.error(error);
    await flush(2_000);
    process.exit(1);
  };
  process.on("uncaughtException", last);
  return true;
}

module.exports = { install, framesOf, LIMITS, Thrown };
