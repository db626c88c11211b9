export type Known = { service: string; endpoint: string; key: string };
export type Step = { title: string; code: string };

/** How to set up one language, and whether it was ever run as it stands here. */
export type Guide = {
  language: string;
  /** The release and the day a test last followed the guide to the letter; undefined where none ever did. */
  ran?: { release: string; day: string };
  /** Frameworks and libraries whose requests and failures come by themselves. */
  covers: string;
  steps: (known: Known) => Step[];
  /** What to write in the service itself: a failure on purpose, users, jobs. */
  more: Step[];
};

/** What every SDK reads from the environment, with the real endpoint and key. */
const environment = ({ service, endpoint, key }: Known, more: string[] = []) =>
  [
    `export OTEL_SERVICE_NAME=${service}`,
    "export OTEL_RESOURCE_ATTRIBUTES=service.version=1.0.0,deployment.environment.name=production",
    "export OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf",
    `export OTEL_EXPORTER_OTLP_ENDPOINT=${endpoint}`,
    `export OTEL_EXPORTER_OTLP_HEADERS=authorization=Bearer%20${key}`,
    ...more,
  ].join("\n");

const NO_METRICS = ["export OTEL_METRICS_EXPORTER=none"];
const setEnvironment = (known: Known, more: string[] = NO_METRICS): Step => ({ title: "Set the environment of the service, with its own version:", code: environment(known, more) });

export const GUIDES: Guide[] = [
  {
    language: "Python",
    ran: { release: "opentelemetry-distro 0.66b1, SDK 1.45.1", day: "2026-11-23" },
    covers: "Flask, Django, FastAPI, Starlette, aiohttp, Celery, requests, SQLAlchemy, psycopg and logging",
    steps: (known) => [
      {
        title: "Install the SDK and its instrumentation:",
        code: "pip install 'opentelemetry-distro==0.66b1' 'opentelemetry-exporter-otlp-proto-http==1.45.1'\nopentelemetry-bootstrap -a install",
      },
      setEnvironment(known),
      { title: "Start it:", code: "opentelemetry-instrument python app.py" },
    ],
    more: [
      { title: "A route that fails on purpose (Flask):", code: '@app.get("/fails-on-purpose")\ndef fails_on_purpose():\n    raise RuntimeError("outcrop: does it arrive?")' },
      {
        title: "Users, data of your own, jobs. In a cron job or one-off task, flush before it ends:",
        code: 'from opentelemetry import trace\n\ntracer = trace.get_tracer("jobs")\nwith tracer.start_as_current_span("settle ports") as span:   # a run: the root span of a job\n    span.set_attribute("user.id", "u-7")\n    span.set_attribute("skerry.port", 7)\n    settle()\ntrace.get_tracer_provider().force_flush()',
      },
    ],
  },
  {
    language: "Node.js",
    ran: { release: "auto-instrumentations-node 0.82.0", day: "2026-11-23" },
    covers: "Express, Fastify, Koa, NestJS, http, undici, pg, mysql2, Redis clients, pino and winston",
    steps: (known) => [
      { title: "Install the SDK and its instrumentation:", code: "npm install @opentelemetry/api@1.10.0 @opentelemetry/auto-instrumentations-node@0.82.0" },
      setEnvironment(known),
      { title: "Start it:", code: "node --require @opentelemetry/auto-instrumentations-node/register server.js" },
    ],
    more: [
      { title: "A route that fails on purpose (Express):", code: 'app.get("/fails-on-purpose", () => {\n  throw new Error("outcrop: does it arrive?");\n});' },
      {
        title: "Users, data of your own, jobs:",
        code: 'const { trace } = require("@opentelemetry/api");\n\ntrace.getTracer("jobs").startActiveSpan("settle ports", async (span) => {   // a run: the root span of a job\n  try {\n    span.setAttributes({ "user.id": "u-7", "skerry.port": 7 });\n    await settle();\n  } catch (error) {\n    span.recordException(error);\n    span.setStatus({ code: 2, message: error.message });\n    throw error;\n  } finally {\n    span.end();\n  }\n});',
      },
    ],
  },
  {
    language: "Java",
    covers: "Spring, Jakarta servlets, JAX-RS, Micronaut, Quarkus, Vert.x, JDBC, Kafka clients, Logback and Log4j",
    steps: (known) => [
      { title: "Get the agent from Maven Central:", code: "mvn dependency:copy -Dartifact=io.opentelemetry.javaagent:opentelemetry-javaagent:2.20.1 -DoutputDirectory=." },
      setEnvironment(known),
      { title: "Start it:", code: "java -javaagent:opentelemetry-javaagent-2.20.1.jar -jar app.jar" },
    ],
    more: [
      { title: "A route that fails on purpose (Spring):", code: '@GetMapping("/fails-on-purpose")\nString failsOnPurpose() {\n  throw new IllegalStateException("outcrop: does it arrive?");\n}' },
    ],
  },
  {
    language: "Go",
    covers: "what you wrap: net/http, gRPC, database/sql and slog have wrappers",
    steps: (known) => [
      {
        title: "Add the SDK:",
        code: "go get go.opentelemetry.io/otel go.opentelemetry.io/otel/sdk \\\n  go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp \\\n  go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp",
      },
      {
        title: "Set it up where main begins; the exporter reads the environment:",
        code: 'exporter, err := otlptracehttp.New(ctx)\nif err != nil {\n\tlog.Fatal(err)\n}\nprovider := sdktrace.NewTracerProvider(sdktrace.WithBatcher(exporter))\notel.SetTracerProvider(provider)\ndefer provider.Shutdown(ctx) // flushes: also what a job needs before it ends\nhttp.ListenAndServe(":8080", otelhttp.NewHandler(mux, "server"))',
      },
      setEnvironment(known, []),
    ],
    more: [
      {
        title: "A panic or error is recorded with its stack where you say so; a handler that fails on purpose:",
        code: 'mux.HandleFunc("/fails-on-purpose", func(w http.ResponseWriter, r *http.Request) {\n\terr := errors.New("outcrop: does it arrive?")\n\ttrace.SpanFromContext(r.Context()).RecordError(err, trace.WithStackTrace(true))\n\thttp.Error(w, err.Error(), 500)\n})',
      },
    ],
  },
  {
    language: "Ruby",
    covers: "Rails, Sinatra, Rack, Sidekiq, Faraday, pg and Redis",
    steps: (known) => [
      { title: "Add to the Gemfile and install:", code: "bundle add opentelemetry-sdk opentelemetry-exporter-otlp opentelemetry-instrumentation-all" },
      { title: "Set it up, in Rails in config/initializers/opentelemetry.rb:", code: 'require "opentelemetry/sdk"\nrequire "opentelemetry/instrumentation/all"\n\nOpenTelemetry::SDK.configure(&:use_all)\nat_exit { OpenTelemetry.tracer_provider.shutdown }   # flushes: also what a job needs' },
      setEnvironment(known, []),
    ],
    more: [
      { title: "A route that fails on purpose (Sinatra):", code: 'get "/fails-on-purpose" do\n  raise "outcrop: does it arrive?"\nend' },
    ],
  },
  {
    language: "PHP",
    covers: "Laravel, Symfony, Slim, WordPress, PDO and PSR-18 clients",
    steps: (known) => [
      { title: "Install the extension and the SDK:", code: "pecl install opentelemetry && echo extension=opentelemetry.so > $PHP_INI_DIR/conf.d/opentelemetry.ini\ncomposer require open-telemetry/sdk open-telemetry/exporter-otlp open-telemetry/opentelemetry-auto-laravel" },
      setEnvironment(known, ["export OTEL_PHP_AUTOLOAD_ENABLED=true", ...NO_METRICS]),
    ],
    more: [
      { title: "A route that fails on purpose (Laravel):", code: "Route::get('/fails-on-purpose', fn () => throw new RuntimeException('outcrop: does it arrive?'));" },
    ],
  },
  {
    language: ".NET",
    covers: "ASP.NET Core, HttpClient, SqlClient, Entity Framework and ILogger",
    steps: (known) => [
      { title: "Add the SDK:", code: "dotnet add package OpenTelemetry.Extensions.Hosting\ndotnet add package OpenTelemetry.Exporter.OpenTelemetryProtocol\ndotnet add package OpenTelemetry.Instrumentation.AspNetCore\ndotnet add package OpenTelemetry.Instrumentation.Http" },
      {
        title: "Set it up in Program.cs:",
        code: "builder.Services.AddOpenTelemetry().UseOtlpExporter()\n    .WithTracing(t => t.AddAspNetCoreInstrumentation(o => o.RecordException = true).AddHttpClientInstrumentation())\n    .WithLogging();",
      },
      setEnvironment(known, []),
    ],
    more: [
      { title: "A route that fails on purpose:", code: 'app.MapGet("/fails-on-purpose", () => { throw new InvalidOperationException("outcrop: does it arrive?"); });' },
    ],
  },
  {
    language: "Rust",
    covers: "what is written with tracing: spans, events, errors",
    steps: (known) => [
      { title: "Add the SDK:", code: "cargo add opentelemetry opentelemetry_sdk opentelemetry-otlp tracing tracing-opentelemetry tracing-subscriber" },
      {
        title: "Set it up where main begins; the exporter reads the environment:",
        code: 'let exporter = opentelemetry_otlp::SpanExporter::builder().with_http().build()?;\nlet provider = SdkTracerProvider::builder().with_batch_exporter(exporter).build();\ntracing_subscriber::registry().with(tracing_opentelemetry::layer().with_tracer(provider.tracer("service"))).init();\n// … and before the process ends, which also flushes what a job has sent:\nprovider.shutdown()?;',
      },
      setEnvironment(known, []),
    ],
    more: [
      { title: "A failure on purpose, within a span:", code: 'let error = std::io::Error::other("outcrop: does it arrive?");\ntracing::error!(error = &error as &dyn std::error::Error, "failed on purpose");' },
    ],
  },
  {
    language: "Elixir",
    covers: "Phoenix, Cowboy, Bandit, Ecto and Oban",
    steps: (known) => [
      { title: "Add to mix.exs and get them:", code: '{:opentelemetry_exporter, "~> 1.8"},\n{:opentelemetry, "~> 1.5"},\n{:opentelemetry_api, "~> 1.4"},\n{:opentelemetry_phoenix, "~> 2.0"},\n{:opentelemetry_bandit, "~> 0.2"}' },
      { title: "Set it up where the application starts:", code: "OpentelemetryBandit.setup()\nOpentelemetryPhoenix.setup(adapter: :bandit)" },
      setEnvironment(known, []),
    ],
    more: [
      { title: "A route that fails on purpose:", code: 'get "/fails-on-purpose" do\n  raise "outcrop: does it arrive?"\nend' },
    ],
  },
];

/** Where the service runs: the same environment, in the place's own form. */
export const HOSTING: { place: string; steps: (known: Known) => Step[] }[] = [
  {
    place: "systemd",
    steps: (known) => [
      {
        title: `systemctl edit ${known.service}; a percent sign is written twice there:`,
        code: `[Service]\n${environment(known, NO_METRICS).replaceAll("export ", "").replaceAll("%", "%%").split("\n").map((line) => `Environment="${line}"`).join("\n")}`,
      },
    ],
  },
  {
    place: "container",
    steps: (known) => [
      {
        title: "A file of variables, for docker run --env-file or podman run --env-file:",
        code: environment(known, NO_METRICS).replaceAll("export ", ""),
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
      { title: "On the pods, for the language at hand:", code: "metadata:\n  annotations:\n    instrumentation.opentelemetry.io/inject-python: outcrop" },
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
    logs: {receivers: [otlp], processors: [batch], exporters: [otlphttp/outcrop]}`,
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
