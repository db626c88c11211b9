export type Language = "Python" | "Node.js";

type Known = { service: string; endpoint: string; key: string };

/** What every SDK reads from the environment, with the real endpoint and key. */
const environment = ({ service, endpoint, key }: Known) => `export OTEL_SERVICE_NAME=${service}
export OTEL_RESOURCE_ATTRIBUTES=service.version=1.0.0,deployment.environment.name=production
export OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf
export OTEL_EXPORTER_OTLP_ENDPOINT=${endpoint}
export OTEL_EXPORTER_OTLP_HEADERS=authorization=Bearer%20${key}`;

const METRICS = "\nexport OTEL_METRICS_EXPORTER=none";

/** Set-up steps for a language. */
export function steps(language: Language, known: Known): { title: string; code: string }[] {
  if (language === "Python") {
    return [
      {
        title: "Install the SDK and its instrumentation:",
        code: "pip install 'opentelemetry-distro==0.66b1' 'opentelemetry-exporter-otlp-proto-http==1.45.1'\nopentelemetry-bootstrap -a install",
      },
      { title: "Set the environment of the service, with its own version:", code: environment(known) + METRICS },
      { title: "Start it:", code: "opentelemetry-instrument python app.py" },
    ];
  }
  return [
    { title: "Install the SDK and its instrumentation:", code: "npm install @opentelemetry/api@1.10.0 @opentelemetry/auto-instrumentations-node@0.82.0" },
    { title: "Set the environment of the service, with its own version:", code: environment(known) + METRICS },
    { title: "Start it:", code: "node --require @opentelemetry/auto-instrumentations-node/register server.js" },
  ];
}
