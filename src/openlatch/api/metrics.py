"""Figures in the text format of Prometheus: how calls were answered, and what waits in the database."""

from __future__ import annotations

from collections.abc import Iterator

from prometheus_client import CONTENT_TYPE_LATEST as CONTENT_TYPE
from prometheus_client import CollectorRegistry, Histogram, generate_latest, values
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.registry import Collector
from sqlalchemy import Engine

from openlatch.store import figures

__all__ = ["CONTENT_TYPE", "MEANINGS", "Metrics"]

PREFIX = "openlatch_"
# What the figures of the database mean, and what their label is called.
MEANINGS = {
    "steps": ("Steps of revocations that are not over.", "state"),
    "oldest_step_seconds": ("Age of the oldest step that a system has not confirmed.", ""),
    "mail": ("Mail that is not sent.", "state"),
    "oldest_mail_seconds": ("Age of the oldest mail that waits.", ""),
    "systems": ("Systems that are read.", "state"),
    "oldest_read_seconds": ("Age of the oldest last read of a system.", ""),
    "open_flags": ("Open flags, by severity from 1 (low) to 4 (critical).", "severity"),
    "jobs": ("Jobs of the worker.", "status"),
    "oldest_job_seconds": ("How long the oldest job that is due has waited.", ""),
    "workers": ("Workers that were heard of within a minute.", ""),
}


class Metrics:
    """The figures of this process, and with PROMETHEUS_MULTIPROC_DIR of all that have the same folder."""

    def __init__(self, engine: Engine) -> None:
        self._own = CollectorRegistry()
        labels = ("method", "call", "status")
        self._answered = Histogram(f"{PREFIX}request_seconds", "Time to answer a call.", labels, registry=self._own)
        self._shared = CollectorRegistry()
        if values.ValueClass is not values.MutexValue:
            MultiProcessCollector(self._shared)  # type: ignore[no-untyped-call]
        self._waiting = CollectorRegistry()
        self._waiting.register(_Waiting(engine))

    def note(self, method: str, call: str, status: int, seconds: float) -> None:
        """Count a call that was answered."""
        self._answered.labels(method, call, str(status)).observe(seconds)

    def text(self) -> bytes:
        """All of it, as CONTENT_TYPE."""
        is_alone = values.ValueClass is values.MutexValue
        return generate_latest(self._own if is_alone else self._shared) + generate_latest(self._waiting)


class _Waiting(Collector):
    """What waits in the database, asked for each time."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine

    def describe(self) -> Iterator[GaugeMetricFamily]:
        """Nothing: what there is does not have to be read for that."""
        return iter(())

    def collect(self) -> Iterator[GaugeMetricFamily]:
        found = figures.read(self._engine)
        for name, (meaning, label) in MEANINGS.items():
            family = GaugeMetricFamily(PREFIX + name, meaning, labels=[label] if label else [])
            for one in found:
                if one.name == name:
                    family.add_metric([one.label] if label else [], one.value)
            yield family
