import { type Guide, setEnvironment } from "./guide";

/** How a Node.js service is set up. */
export const nodejs: Guide = {
  language: "Node.js",
  release: "auto-instrumentations-node 0.82.0",
  ran: "2026-11-28",
  covers: "Express, Fastify, Koa, NestJS, http, undici, pg, mysql2, Redis clients, pino and winston",
  steps: (known) => [
    {
      title: "Install the SDK and its instrumentation:",
      code: "npm install @opentelemetry/api@1.10.0 @opentelemetry/auto-instrumentations-node@0.82.0",
    },
    setEnvironment(known),
    { title: "Start it:", code: "node --require @opentelemetry/auto-instrumentations-node/register server.js" },
  ],
  frameworks: [
    {
      name: "Express",
      steps: [
        {
          title: "A route that fails on purpose:",
          code: 'app.get("/fails-on-purpose", () => {\n  throw new Error("outcrop: does it arrive?");\n});',
        },
      ],
    },
    {
      name: "Fastify",
      steps: [
        {
          title: "A route that fails on purpose:",
          code: 'app.get("/fails-on-purpose", async () => {\n  throw new Error("outcrop: does it arrive?");\n});',
        },
      ],
    },
    {
      name: "NestJS",
      steps: [
        {
          title: "Start it:",
          code: "node --require @opentelemetry/auto-instrumentations-node/register dist/main.js",
        },
        {
          title: "A route that fails on purpose, in a controller:",
          code: '@Get("fails-on-purpose")\nfailsOnPurpose() {\n  throw new Error("outcrop: does it arrive?");\n}',
        },
      ],
    },
    {
      name: "ES modules",
      steps: [
        {
          title: "Modules loaded by import need the loader too:",
          code: "node --import @opentelemetry/auto-instrumentations-node/register --experimental-loader=@opentelemetry/instrumentation/hook.mjs server.mjs",
        },
      ],
    },
  ],
  more: [
    {
      title: "Lines of source of your own frames, and what ends the process, by helpers/node of Outcrop’s repository:",
      code: "node --require @opentelemetry/auto-instrumentations-node/register \\\n  --require outcrop-helper/register server.js",
    },
    {
      title: "Users and data of your own, on the span at hand:",
      code: 'const { trace } = require("@opentelemetry/api");\n\ntrace.getActiveSpan()?.setAttributes({ "user.id": "u-7", "skerry.port": 7 });',
    },
  ],
  job: [
    {
      title: "A job is the run of its root span; flush before the process ends:",
      code: `cat > settle.js <<'EOF'
const { trace } = require("@opentelemetry/api");

async function settle(port) {
  if (port > 6) throw new RangeError(\`no port \${port}\`);
}

trace.getTracer("jobs").startActiveSpan("settle ports", async (span) => {
  try {
    span.setAttributes({ "user.id": "u-7", "skerry.port": 7 });
    await settle(7);
  } catch (error) {
    span.recordException(error);
    span.setStatus({ code: 2, message: error.message });
    throw error;
  } finally {
    span.end();
    await trace.getTracerProvider().getDelegate().forceFlush();
  }
});
EOF
node --require @opentelemetry/auto-instrumentations-node/register settle.js`,
    },
  ],
};
