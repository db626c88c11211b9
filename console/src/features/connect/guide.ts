/** What a guide to one language is, and what all of them set. */

export type Known = { service: string; endpoint: string; key: string };
export type Step = { title: string; code: string };

export type Framework = { name: string; steps: Step[] };

/** How to set up one language, and whether it was ever run as it stands here. */
export type Guide = {
  language: string;
  /** The SDK's release it is written for. */
  release: string;
  /** The day a test last followed it to the letter, with that release; undefined where none ever did. */
  ran?: string;
  /** Frameworks and libraries whose requests and failures come by themselves. */
  covers: string;
  steps: (known: Known) => Step[];
  /** How a framework is started and fails on purpose, where that differs from the steps; the first is the one that a test ran. */
  frameworks?: Framework[];
  /** What to write in the service itself: a failure on purpose, users. */
  more: Step[];
  /** A job or one-off task that fails on purpose: what it holds is sent before the process ends. */
  job?: Step[];
};

/** What every SDK reads from the environment, with the real endpoint and key. */
export const environment = ({ service, endpoint, key }: Known, more: string[] = []) =>
  [
    `export OTEL_SERVICE_NAME=${service}`,
    "export OTEL_RESOURCE_ATTRIBUTES=service.version=1.0.0,deployment.environment.name=production",
    "export OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf",
    `export OTEL_EXPORTER_OTLP_ENDPOINT=${endpoint}`,
    `export OTEL_EXPORTER_OTLP_HEADERS=authorization=Bearer%20${key}`,
    "export OTEL_METRICS_EXPORTER=otlp",
    ...more,
  ].join("\n");

export const setEnvironment = (known: Known, more: string[] = []): Step => ({
  title: "Set the environment of the service, with its own version:",
  code: environment(known, more),
});
