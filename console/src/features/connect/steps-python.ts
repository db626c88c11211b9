import { type Guide, setEnvironment } from "./guide";

/** How a Python service is set up. */
export const python: Guide = {
  language: "Python",
  release: "opentelemetry-distro 0.66b1, SDK 1.45.1",
  ran: "2026-11-28",
  covers: "Flask, Django, FastAPI, Starlette, aiohttp, Celery, requests, SQLAlchemy, psycopg and logging",
  steps: (known) => [
    {
      title: "Install the SDK and its instrumentation:",
      code: "pip install 'opentelemetry-distro==0.66b1' 'opentelemetry-exporter-otlp-proto-http==1.45.1'\nopentelemetry-bootstrap -a install",
    },
    setEnvironment(known),
    { title: "Start it:", code: "opentelemetry-instrument python app.py" },
  ],
  frameworks: [
    {
      name: "Flask",
      steps: [
        {
          title: "A route that fails on purpose:",
          code: '@app.get("/fails-on-purpose")\ndef fails_on_purpose():\n    raise RuntimeError("outcrop: does it arrive?")',
        },
      ],
    },
    {
      name: "Django",
      steps: [
        {
          title: "Start it with its settings named; the reloader would start it twice:",
          code: "export DJANGO_SETTINGS_MODULE=ports.settings\nopentelemetry-instrument python manage.py runserver --noreload",
        },
        {
          title: "A view that fails on purpose, in urls.py:",
          code: 'def fails_on_purpose(request):\n    raise RuntimeError("outcrop: does it arrive?")\n\nurlpatterns += [path("fails-on-purpose", fails_on_purpose)]',
        },
      ],
    },
    {
      name: "FastAPI",
      steps: [
        { title: "Start it:", code: "opentelemetry-instrument uvicorn app:app" },
        {
          title: "A route that fails on purpose:",
          code: '@app.get("/fails-on-purpose")\nasync def fails_on_purpose():\n    raise RuntimeError("outcrop: does it arrive?")',
        },
      ],
    },
    {
      name: "Celery",
      steps: [
        {
          title: "Start the worker; each run of a task is a run of its endpoint:",
          code: "opentelemetry-instrument celery -A ports worker",
        },
        {
          title: "A task that fails on purpose:",
          code: '@app.task\ndef fails_on_purpose():\n    raise RuntimeError("outcrop: does it arrive?")',
        },
      ],
    },
    {
      name: "Gunicorn",
      steps: [
        {
          title: "Start it; each worker is an instance of its own:",
          code: "opentelemetry-instrument gunicorn --workers 4 app:app",
        },
      ],
    },
  ],
  more: [
    {
      title: "Users and data of your own, on the span at hand:",
      code: 'from opentelemetry import trace\n\ntrace.get_current_span().set_attributes({"user.id": "u-7", "skerry.port": 7})',
    },
    {
      title: "Variables and lines of source of your own frames, by helpers/python of Outcrop’s repository:",
      code: "import outcrop_helper\n\noutcrop_helper.install()",
    },
  ],
  job: [
    {
      title: "A job is the run of its root span; what it holds is sent as the process ends:",
      code: `cat > settle.py <<'EOF'
from opentelemetry import trace

def settle(port):
    if port > 6:
        raise LookupError(f"no port {port}")

with trace.get_tracer("jobs").start_as_current_span("settle ports") as span:
    span.set_attributes({"user.id": "u-7", "skerry.port": 7})
    settle(7)
EOF
opentelemetry-instrument python settle.py`,
    },
  ],
};
