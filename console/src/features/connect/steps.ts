import { type Guide, setEnvironment } from "./guide";
import { nodejs } from "./steps-nodejs";
import { python } from "./steps-python";

/** How a service is set up, by language. */
export const GUIDES: [Guide, ...Guide[]] = [
  python,
  nodejs,
  {
    language: "Java",
    release: "opentelemetry-javaagent 2.20.1",
    covers: "Spring, Jakarta servlets, JAX-RS, Micronaut, Quarkus, Vert.x, JDBC, Kafka clients, Logback and Log4j",
    steps: (known) => [
      {
        title: "Get the agent from Maven Central:",
        code: "mvn dependency:copy -Dartifact=io.opentelemetry.javaagent:opentelemetry-javaagent:2.20.1 -DoutputDirectory=.",
      },
      setEnvironment(known),
      { title: "Start it:", code: "java -javaagent:opentelemetry-javaagent-2.20.1.jar -jar app.jar" },
    ],
    more: [
      {
        title: "A route that fails on purpose (Spring):",
        code: '@GetMapping("/fails-on-purpose")\nString failsOnPurpose() {\n  throw new IllegalStateException("outcrop: does it arrive?");\n}',
      },
      {
        title: "Users and data of your own, on the span at hand:",
        code: 'Span.current().setAttribute("user.id", "u-7").setAttribute("skerry.port", 7);',
      },
      {
        title: "A job is the run of its root span; the agent sends what it holds as the process ends:",
        code: 'Span span = GlobalOpenTelemetry.getTracer("jobs").spanBuilder("settle ports").startSpan();\ntry (Scope scope = span.makeCurrent()) {\n  settle(7);\n} catch (RuntimeException failed) {\n  span.recordException(failed).setStatus(StatusCode.ERROR);\n  throw failed;\n} finally {\n  span.end();\n}',
      },
    ],
  },
  {
    language: "Go",
    release: "go.opentelemetry.io/otel 1.38, otelhttp 0.63",
    covers: "what you wrap: net/http, gRPC, database/sql and slog have wrappers",
    steps: (known) => [
      {
        title: "Add the SDK:",
        code: "go get go.opentelemetry.io/otel@v1.38 go.opentelemetry.io/otel/sdk@v1.38 \\\n  go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp \\\n  go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp",
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
      {
        title: "Users and data of your own, on the span at hand:",
        code: 'trace.SpanFromContext(ctx).SetAttributes(attribute.String("user.id", "u-7"), attribute.Int("skerry.port", 7))',
      },
      {
        title: "A panic ends the process before anything is sent: take it down, flush, go on dying:",
        code: 'func job(ctx context.Context, provider *sdktrace.TracerProvider) {\n\tctx, span := otel.Tracer("jobs").Start(ctx, "settle ports") // a job is the run of its root span\n\tdefer func() {\n\t\tif failed := recover(); failed != nil {\n\t\t\tspan.RecordError(fmt.Errorf("panic: %v", failed), trace.WithStackTrace(true))\n\t\t\tspan.SetStatus(codes.Error, "panic")\n\t\t\tspan.End()\n\t\t\tprovider.ForceFlush(ctx)\n\t\t\tpanic(failed)\n\t\t}\n\t\tspan.End()\n\t}()\n\tsettle(ctx, 7)\n}',
      },
    ],
  },
  {
    language: "Ruby",
    release: "opentelemetry-sdk 1.8",
    covers: "Rails, Sinatra, Rack, Sidekiq, Faraday, pg and Redis",
    steps: (known) => [
      {
        title: "Add to the Gemfile and install:",
        code: "bundle add opentelemetry-sdk opentelemetry-exporter-otlp opentelemetry-instrumentation-all",
      },
      {
        title: "Set it up, in Rails in config/initializers/opentelemetry.rb:",
        code: 'require "opentelemetry/sdk"\nrequire "opentelemetry/instrumentation/all"\n\nOpenTelemetry::SDK.configure(&:use_all)\nat_exit { OpenTelemetry.tracer_provider.shutdown }   # flushes: also what a job needs',
      },
      setEnvironment(known, []),
    ],
    more: [
      {
        title: "A route that fails on purpose (Sinatra):",
        code: 'get "/fails-on-purpose" do\n  raise "outcrop: does it arrive?"\nend',
      },
      { title: "In Rails, in a controller:", code: 'def fails_on_purpose\n  raise "outcrop: does it arrive?"\nend' },
      {
        title: "Users and data of your own, on the span at hand:",
        code: 'OpenTelemetry::Trace.current_span.add_attributes("user.id" => "u-7", "skerry.port" => 7)',
      },
      {
        title: "A job is the run of its root span; at_exit above sends what is held, also as it dies:",
        code: 'OpenTelemetry.tracer_provider.tracer("jobs").in_span("settle ports") do\n  settle(7)\nend',
      },
    ],
  },
  {
    language: "PHP",
    release: "open-telemetry/sdk 1.6",
    covers: "Laravel, Symfony, Slim, WordPress, PDO and PSR-18 clients",
    steps: (known) => [
      {
        title: "Install the extension and the SDK:",
        code: "pecl install opentelemetry && echo extension=opentelemetry.so > $PHP_INI_DIR/conf.d/opentelemetry.ini\ncomposer require open-telemetry/sdk open-telemetry/exporter-otlp open-telemetry/opentelemetry-auto-laravel",
      },
      setEnvironment(known, ["export OTEL_PHP_AUTOLOAD_ENABLED=true"]),
    ],
    more: [
      {
        title: "A route that fails on purpose (Laravel):",
        code: "Route::get('/fails-on-purpose', fn () => throw new RuntimeException('outcrop: does it arrive?'));",
      },
      {
        title: "In Symfony, in a controller:",
        code: "#[Route('/fails-on-purpose')]\npublic function failsOnPurpose(): Response\n{\n    throw new \\RuntimeException('outcrop: does it arrive?');\n}",
      },
      {
        title: "Users and data of your own, on the span at hand:",
        code: "OpenTelemetry\\API\\Trace\\Span::getCurrent()->setAttribute('user.id', 'u-7')->setAttribute('skerry.port', 7);",
      },
      {
        title: "A job is the run of its root span; the SDK sends what it holds as the script ends:",
        code: "$span = Globals::tracerProvider()->getTracer('jobs')->spanBuilder('settle ports')->startSpan();\n$scope = $span->activate();\ntry {\n    settle(7);\n} catch (Throwable $failed) {\n    $span->recordException($failed)->setStatus(StatusCode::STATUS_ERROR);\n    throw $failed;\n} finally {\n    $scope->detach();\n    $span->end();\n}",
      },
    ],
  },
  {
    language: ".NET",
    release: "OpenTelemetry 1.12",
    covers: "ASP.NET Core, HttpClient, SqlClient, Entity Framework and ILogger",
    steps: (known) => [
      {
        title: "Add the SDK:",
        code: "dotnet add package OpenTelemetry.Extensions.Hosting\ndotnet add package OpenTelemetry.Exporter.OpenTelemetryProtocol\ndotnet add package OpenTelemetry.Instrumentation.AspNetCore\ndotnet add package OpenTelemetry.Instrumentation.Http",
      },
      {
        title: "Set it up in Program.cs:",
        code: "builder.Services.AddOpenTelemetry().UseOtlpExporter()\n    .WithTracing(t => t.AddAspNetCoreInstrumentation(o => o.RecordException = true).AddHttpClientInstrumentation())\n    .WithLogging();",
      },
      setEnvironment(known, []),
    ],
    more: [
      {
        title: "A route that fails on purpose:",
        code: 'app.MapGet("/fails-on-purpose", () => { throw new InvalidOperationException("outcrop: does it arrive?"); });',
      },
      {
        title: "Users and data of your own, on the span at hand:",
        code: 'Activity.Current?.SetTag("user.id", "u-7").SetTag("skerry.port", 7);',
      },
      {
        title: "A job is the run of its root span; disposing of the provider sends what is held:",
        code: 'using var provider = Sdk.CreateTracerProviderBuilder().AddSource("jobs").AddOtlpExporter().Build();\nusing var jobs = new ActivitySource("jobs");\nusing var run = jobs.StartActivity("settle ports");\ntry\n{\n    Settle(7);\n}\ncatch (Exception failed)\n{\n    run?.AddException(failed);\n    run?.SetStatus(ActivityStatusCode.Error);\n    throw;\n}',
      },
    ],
  },
  {
    language: "Rust",
    release: "opentelemetry 0.33.1, tracing-opentelemetry 0.34.0",
    ran: "2026-11-28",
    covers:
      "the spans that you and your libraries make with tracing; panics by the hook below, errors where you say so",
    steps: (known) => [
      {
        title: "Add the SDK:",
        code: "cargo add opentelemetry@0.33.1 opentelemetry_sdk@0.33.1 opentelemetry-otlp@0.33.1 \\\n  tracing@0.1.44 tracing-opentelemetry@0.34.0 tracing-subscriber@0.3.23",
      },
      {
        title: "Set it up in a module of its own; the exporter reads the environment:",
        code: `cat > src/telemetry.rs <<'EOF'
//! Spans, errors and panics, sent where the environment says. In main.rs: \`mod telemetry;\`, and first of all in main:
//! \`let _telemetry = telemetry::start();\`

use std::backtrace::Backtrace;
use std::error::Error;

use opentelemetry::KeyValue;
use opentelemetry::trace::{Status, TracerProvider as _};
use opentelemetry_sdk::trace::SdkTracerProvider;
use tracing_opentelemetry::OpenTelemetrySpanExt;
use tracing_subscriber::filter::LevelFilter;
use tracing_subscriber::prelude::*;

/// Sends what it still holds when it is dropped: keep it until main ends.
pub struct Telemetry(SdkTracerProvider);

pub fn start() -> Telemetry {
    let exporter = opentelemetry_otlp::SpanExporter::builder().with_http().build().expect("an exporter");
    let provider = SdkTracerProvider::builder().with_batch_exporter(exporter).build();
    let spans = tracing_opentelemetry::layer().with_tracer(provider.tracer("service"));
    // Without the level, the exporter's own spans would be sent too, without end.
    tracing_subscriber::registry().with(LevelFilter::INFO).with(tracing_subscriber::fmt::layer()).with(spans).init();
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        record("panic", panic.payload_as_str().unwrap_or("panic").to_owned());
        usual(panic);
    }));
    Telemetry(provider)
}

/// Takes down an error on the span it happened in.
pub fn failed<E: Error>(error: &E) {
    record(std::any::type_name::<E>(), error.to_string());
}

fn record(kind: &'static str, message: String) {
    let span = tracing::Span::current();
    let whole = Backtrace::force_capture().to_string();
    // What is above this module's own frames is where it failed.
    let lines: Vec<&str> = whole.lines().collect();
    let own = lines.iter().rposition(|line| line.contains("::telemetry::") || line.contains("/telemetry.rs:"));
    let stack = lines[own.map_or(0, |at| at + 1)..].join("\\n");
    span.set_status(Status::error(message.clone()));
    let exception = [("exception.type", kind.to_owned()), ("exception.message", message), ("exception.stacktrace", stack)];
    span.add_event("exception", exception.map(|(name, value)| KeyValue::new(name, value)).to_vec());
}

impl Drop for Telemetry {
    fn drop(&mut self) {
        if let Err(error) = self.0.shutdown() {
            eprintln!("spans were not sent: {error}");
        }
    }
}
EOF`,
      },
      setEnvironment(known, []),
      { title: "Start it:", code: "cargo run" },
    ],
    more: [
      {
        title: "A request is a span of kind server; a handler that fails on purpose:",
        code: '#[tracing::instrument(fields(otel.name = "GET /fails-on-purpose", otel.kind = "server", http.request.method = "GET", http.route = "/fails-on-purpose"))]\nfn fails_on_purpose() {\n    telemetry::failed(&std::io::Error::other("outcrop: does it arrive?"));\n}',
      },
      {
        title: "Users and data of your own, on the span at hand:",
        code: 'use tracing_opentelemetry::OpenTelemetrySpanExt;\n\ntracing::Span::current().set_attribute("user.id", "u-7");',
      },
    ],
    job: [
      {
        title: "A job is the run of its root span; a panic is taken down, and what is held is sent as main is left:",
        code: `mkdir -p src/bin && cat > src/bin/settle.rs <<'EOF'
#[path = "../telemetry.rs"]
mod telemetry;

fn settle(port: u32) {
    assert!(port < 7, "no port {port}");
}

#[tracing::instrument(name = "settle ports", fields(user.id = "u-7"))]
fn run() {
    settle(7);
}

fn main() {
    let _telemetry = telemetry::start();
    run();
}
EOF
cargo run --bin settle`,
      },
    ],
  },
  {
    language: "Elixir",
    release: "opentelemetry 1.5",
    covers: "Phoenix, Cowboy, Bandit, Ecto and Oban",
    steps: (known) => [
      {
        title: "Add to mix.exs and get them:",
        code: '{:opentelemetry_exporter, "~> 1.8"},\n{:opentelemetry, "~> 1.5"},\n{:opentelemetry_api, "~> 1.4"},\n{:opentelemetry_phoenix, "~> 2.0"},\n{:opentelemetry_bandit, "~> 0.2"}',
      },
      {
        title: "Set it up where the application starts:",
        code: "OpentelemetryBandit.setup()\nOpentelemetryPhoenix.setup(adapter: :bandit)",
      },
      setEnvironment(known, []),
    ],
    more: [
      {
        title: "A route that fails on purpose:",
        code: 'get "/fails-on-purpose" do\n  raise "outcrop: does it arrive?"\nend',
      },
      {
        title: "Users and data of your own, on the span at hand:",
        code: 'OpenTelemetry.Tracer.set_attributes(%{"user.id" => "u-7", "skerry.port" => 7})',
      },
      {
        title: "A job is the run of its root span; stopping the SDK sends what it holds:",
        code: 'require OpenTelemetry.Tracer, as: Tracer\n\nTracer.with_span "settle ports" do\n  try do\n    settle(7)\n  rescue\n    failed ->\n      Tracer.record_exception(failed, __STACKTRACE__)\n      Tracer.set_status(:error, Exception.message(failed))\n      reraise failed, __STACKTRACE__\n  end\nend\n\nApplication.stop(:opentelemetry)',
      },
    ],
  },
];
