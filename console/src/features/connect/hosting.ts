/** Where a service runs, and how its settings reach it there. */

import { environment, type Known, type Step } from "./guide";

/** Where the service runs: the same environment, in the place's own form. */
export const HOSTING: { place: string; steps: (known: Known) => Step[] }[] = [
  {
    place: "systemd",
    steps: (known) => [
      {
        title: `systemctl edit ${known.service}; a percent sign is written twice there:`,
        code: `[Service]\n${environment(known)
          .replaceAll("export ", "")
          .replaceAll("%", "%%")
          .split("\n")
          .map((line) => `Environment="${line}"`)
          .join("\n")}`,
      },
    ],
  },
  {
    place: "container",
    steps: (known) => [
      {
        title: "A file of variables, for docker run --env-file or podman run --env-file:",
        code: environment(known).replaceAll("export ", ""),
      },
    ],
  },
  {
    place: "Kubernetes operator",
    steps: (known) => [
      {
        title: "A resource of the OpenTelemetry operator; the key in a secret of its own:",
        code: `apiVersion: v1
kind: Secret
metadata: {name: outcrop}
stringData: {headers: "authorization=Bearer%20${known.key}"}
---
apiVersion: opentelemetry.io/v1alpha1
kind: Instrumentation
metadata: {name: outcrop}
spec:
  exporter: {endpoint: "${known.endpoint}"}
  propagators: [tracecontext, baggage]
  env:
    - {name: OTEL_EXPORTER_OTLP_PROTOCOL, value: http/protobuf}
    - name: OTEL_EXPORTER_OTLP_HEADERS
      valueFrom: {secretKeyRef: {name: outcrop, key: headers}}`,
      },
      {
        title: "On the pods, for the language at hand:",
        code: "metadata:\n  annotations:\n    instrumentation.opentelemetry.io/inject-python: outcrop",
      },
    ],
  },
  {
    place: "OpenTelemetry collector",
    steps: (known) => [
      {
        title: "In the collector's configuration; its services need nothing else:",
        code: `exporters:
  otlphttp/outcrop:
    endpoint: ${known.endpoint}
    compression: zstd
    headers: {authorization: "Bearer ${known.key}"}
    retry_on_failure: {enabled: true, max_elapsed_time: 24h}
service:
  pipelines:
    traces: {receivers: [otlp], processors: [batch], exporters: [otlphttp/outcrop]}
    logs: {receivers: [otlp], processors: [batch], exporters: [otlphttp/outcrop]}
    metrics: {receivers: [otlp], processors: [batch], exporters: [otlphttp/outcrop]}`,
      },
    ],
  },
  {
    place: "cron or pipeline",
    steps: (known) => [
      {
        title: "Any command, unchanged: each run is counted, and what it died of is reported:",
        code: `export OUTCROP_KEY=${known.key}\noutcrop run --service ${known.service} --url ${known.endpoint} -- ./${known.service}.sh`,
      },
    ],
  },
  {
    place: "logs only",
    steps: (known) => [
      {
        title: "No change to the service: its logs are read, rotated files and restarts included:",
        code: `export OUTCROP_KEY=${known.key}\noutcrop collect '/var/log/${known.service}/*.log' --service ${known.service} --environment production --url ${known.endpoint} --follow`,
      },
    ],
  },
];
