"""Variables and lines of source of own frames, and failures outside requests.

For services that OpenTelemetry's SDK watches; what is sent is plain OpenTelemetry (docs/reference/attributes.md,
`outcrop.frames`). Everything works without this module: it only adds.

    import outcrop_helper
    outcrop_helper.install()

after the SDK is set up. No value is asked to describe itself: neither `__repr__` nor a property of the service's own
classes is ever run, and no generator is advanced.
"""

from __future__ import annotations

import json
import linecache
import re
import sys
import sysconfig
import threading
import time
import traceback
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from datetime import time as time_of_day
from decimal import Decimal
from enum import Enum
from fractions import Fraction
from pathlib import PurePath
from uuid import UUID

from opentelemetry import _logs, trace

__all__ = ["Limits", "install", "frames_of"]

ATTRIBUTE = "outcrop.frames"
#: Names whose values never leave the process.
SECRET = re.compile(
    r"passw|passphrase|pwd|secret|token|api_?key|auth|cookie|session|credential|private|signature", re.IGNORECASE
)
REMOVED = "[removed: name]"
#: Classes of the standard library whose `repr` is short, quick and does nothing else.
PLAIN = (Decimal, Fraction, UUID, PurePath, datetime, date, time_of_day, timedelta, complex)


@dataclass(frozen=True)
class Limits:
    """What is sent of one failure at most."""

    #: Own frames, the innermost first.
    frames: int = 5
    #: Variables of a frame.
    variables: int = 20
    #: Characters of a value.
    characters: int = 200
    #: Members of a list or a map.
    members: int = 10
    #: Lists and objects within each other.
    depth: int = 3
    #: Lines of source before and after the frame's own.
    lines: int = 3
    #: Seconds that all of it may take.
    seconds: float = 0.005


class _Out:
    """A value as it is written, within the limits."""

    def __init__(self, limits: Limits):
        self.limits = limits
        self.around: list[int] = []

    def text(self, value: object) -> str:
        written = self._write(value, 0)
        most = self.limits.characters
        return written if len(written) <= most else written[:most] + "…"

    def _write(self, value: object, depth: int) -> str:
        kind = type(value)
        if value is None or kind in (bool, float):
            return repr(value)
        if kind is int:
            # Digits of a huge number take quadratic time.
            return repr(value) if -(10**40) < value < 10**40 else f"an int of {value.bit_length()} bits"
        if kind in (str, bytes, bytearray):
            cut = value[: self.limits.characters]
            return repr(cut) + ("…" if len(value) > len(cut) else "")
        if kind in PLAIN or (issubclass(kind, PurePath) and kind.__module__.startswith("pathlib")):
            return repr(value)
        if issubclass(kind, Enum):
            return f"{kind.__qualname__}.{object.__getattribute__(value, '_name_')}"
        if depth >= self.limits.depth or id(value) in self.around:
            return f"<{_named(kind)}>"
        self.around.append(id(value))
        try:
            return self._inside(value, kind, depth)
        finally:
            self.around.pop()

    def _inside(self, value: object, kind: type, depth: int) -> str:
        most = self.limits.members
        if kind in (list, tuple, set, frozenset):
            open_, close = {list: "[]", tuple: "()"}.get(kind, "{}")
            members = [self._write(member, depth + 1) for member, _ in zip(value, range(most))]
            return open_ + ", ".join(members) + (f", … {len(value) - most} more" if len(value) > most else "") + close
        if kind is dict:
            pairs = [self._pair(name, member, depth) for (name, member), _ in zip(value.items(), range(most))]
            return "{" + ", ".join(pairs) + (f", … {len(value) - most} more" if len(value) > most else "") + "}"
        # What the class itself says of its instances is not asked: it may be slow, fail, or change something.
        fields = _fields(value)
        shown = [pair for pair, _ in zip(fields.items(), range(most))]
        pairs = [f"{name}={self._of_name(name, member, depth)}" for name, member in shown]
        return f"{_named(kind)}({', '.join(pairs)}{', …' if len(fields) > most else ''})"

    def _pair(self, name: object, member: object, depth: int) -> str:
        return f"{self._write(name, depth + 1)}: {self._of_name(name, member, depth)}"

    def _of_name(self, name: object, member: object, depth: int) -> str:
        return REMOVED if type(name) is str and SECRET.search(name) else self._write(member, depth + 1)


def _named(kind: type) -> str:
    module = type.__getattribute__(kind, "__module__")
    name = type.__getattribute__(kind, "__qualname__")
    return name if module == "builtins" else f"{module}.{name}"


def _fields(value: object) -> dict:
    """An instance's own attributes, read past whatever its class does about reading."""
    try:
        fields = object.__getattribute__(value, "__dict__")
    except AttributeError:
        return {}
    return fields if type(fields) is dict else {}


_LIBRARIES = tuple(
    path for name in ("stdlib", "platstdlib", "purelib", "platlib") if (path := sysconfig.get_paths().get(name))
)


def _is_own(file: str) -> bool:
    return not (file.startswith(_LIBRARIES) or "site-packages" in file or file.startswith("<frozen"))


def frames_of(error: BaseException, limits: Limits = Limits()) -> str | None:
    """The own frames of an exception with variables and lines of source, as JSON text; `None` where it has none.

    A `KeyboardInterrupt` apart nothing is raised, whatever the values are.
    """
    until = time.perf_counter() + limits.seconds
    out = _Out(limits)
    found = []
    walked = [pair for pair in traceback.walk_tb(error.__traceback__) if _is_own(pair[0].f_code.co_filename)]
    for frame, line in reversed(walked[-limits.frames :]):
        code = frame.f_code
        one: dict = {"function": code.co_name, "file": code.co_filename, "line": line}
        variables: dict = {}
        # Names that generated code gives are no variables of a person.
        named = [pair for pair in frame.f_locals.items() if not pair[0].startswith(("__", "."))]
        for name, value in named[: limits.variables]:
            if time.perf_counter() > until:
                break
            try:
                variables[name] = REMOVED if SECRET.search(name) else out.text(value)
            except Exception:  # noqa: BLE001 - a failure is told of with what is known of it
                variables[name] = "(cannot be shown)"
        if variables:
            one["variables"] = variables
        if source := _source(code.co_filename, line, limits.lines):
            one["source"] = source
        found.append(one)
    return json.dumps(found, ensure_ascii=False) if found else None


def _source(file: str, line: int, around: int) -> dict | None:
    first = max(1, line - around)
    lines = [linecache.getline(file, number).rstrip("\n") for number in range(first, line + around + 1)]
    return {"first": first, "lines": lines} if any(lines) else None


class _Spans:
    """A span processor that adds what is known of frames to each exception that a span records."""

    def __init__(self, limits: Limits):
        self._limits = limits

    def on_start(self, span, parent_context=None) -> None:
        record, limits = span.record_exception, self._limits

        def record_exception(exception, attributes=None, timestamp=None, escaped=False):
            frames = frames_of(exception, limits)
            if frames and not (attributes and ATTRIBUTE in attributes):
                attributes = {**(attributes or {}), ATTRIBUTE: frames}
            record(exception, attributes=attributes, timestamp=timestamp, escaped=escaped)

        span.record_exception = record_exception

    def _on_ending(self, span) -> None: ...

    def on_end(self, span) -> None: ...

    def shutdown(self) -> None: ...

    def force_flush(self, timeout_millis: int = 30_000) -> bool:
        return True


class _Records:
    """A log record processor that adds the same to records that are written while an exception is handled."""

    def __init__(self, limits: Limits):
        self._limits = limits

    def on_emit(self, record) -> None:
        of = getattr(record, "log_record", record)
        error = getattr(of, "exception", None) or sys.exc_info()[1]
        attributes = of.attributes
        if error is None or not attributes or "exception.type" not in attributes or ATTRIBUTE in attributes:
            return
        if frames := frames_of(error, self._limits):
            of.attributes = {**attributes, ATTRIBUTE: frames}

    emit = on_emit

    def shutdown(self) -> None: ...

    def force_flush(self, timeout_millis: int = 30_000) -> bool:
        return True


def _report(error: BaseException, where: str, limits: Limits) -> None:
    """Reports an exception that ended a thread or the process."""
    attributes = {
        "exception.type": _named(type(error)),
        "exception.message": str(error),
        "exception.stacktrace": "".join(traceback.format_exception(error)),
        "exception.escaped": True,
    }
    if frames := frames_of(error, limits):
        attributes[ATTRIBUTE] = frames
    record = _logs.LogRecord(
        timestamp=time.time_ns(),
        severity_number=_logs.SeverityNumber.FATAL,
        severity_text="FATAL",
        body=f"uncaught in {where}",
        attributes=attributes,
    )
    _logs.get_logger("outcrop_helper").emit(record)


def _flush() -> None:
    for provider in (trace.get_tracer_provider(), _logs.get_logger_provider()):
        flush = getattr(provider, "force_flush", None)
        if flush:
            flush(2_000)


def install(limits: Limits = Limits(), tracer_provider=None, logger_provider=None) -> None:
    """Adds variables and source to what the SDK's providers send, and reports what ends threads and the process.

    Call it once, after the SDK is set up. Providers that are none of an SDK are left as they are.
    """
    spans = tracer_provider or trace.get_tracer_provider()
    if hasattr(spans, "add_span_processor"):
        spans.add_span_processor(_Spans(limits))
    records = logger_provider or _logs.get_logger_provider()
    if hasattr(records, "add_log_record_processor"):
        records.add_log_record_processor(_Records(limits))
        # Processors work in their order: ours goes before those that export, where the SDK still keeps them so.
        multiple = getattr(records, "_multi_log_record_processor", None)
        known = getattr(multiple, "_log_record_processors", None)
        if isinstance(known, tuple):
            multiple._log_record_processors = (known[-1], *known[:-1])
    before, in_thread = sys.excepthook, threading.excepthook

    def on_exit(kind, error, tb):
        if not issubclass(kind, (KeyboardInterrupt, SystemExit)):
            _quietly(lambda: _report(error.with_traceback(tb), "the main thread", limits))
            _quietly(_flush)
        before(kind, error, tb)

    def on_thread(args):
        if args.exc_value is not None and not issubclass(args.exc_type, SystemExit):
            name = args.thread.name if args.thread else "a thread"
            _quietly(lambda: _report(args.exc_value, f"thread {name}", limits))
        in_thread(args)

    sys.excepthook, threading.excepthook = on_exit, on_thread


def _quietly(act) -> None:
    try:
        act()
    except Exception:  # noqa: BLE001 - telemetry never ends what it watches
        pass
