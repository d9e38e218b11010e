"""Metrics (Prometheus text format 0.0.4)."""

from __future__ import annotations

from prometheus_client import (
    CollectorRegistry,
    Counter,
    Gauge,
    Histogram,
    disable_created_metrics,
    generate_latest,
)
from prometheus_client.exposition import CONTENT_TYPE_LATEST

from gefa.web.health import Health

TEXT = CONTENT_TYPE_LATEST
disable_created_metrics()  # type: ignore[no-untyped-call]
_SECONDS = (0.005, 0.02, 0.1, 0.5, 1.0, 5.0, 30.0)


class Metrics:
    """The figures of one application."""

    def __init__(self) -> None:
        self._registry = CollectorRegistry()
        self._requests = Counter(
            "gefa_requests", "Requests answered", ("area", "status"), registry=self._registry
        )
        self._seconds = Histogram(
            "gefa_request_seconds", "Seconds until a request was answered", ("area",),
            buckets=_SECONDS, registry=self._registry,
        )  # fmt: skip
        self._bytes = Counter(
            "gefa_sent_bytes", "Bytes of answers", ("area",), registry=self._registry
        )
        self._jobs = Counter("gefa_jobs", "Jobs done", ("kind", "outcome"), registry=self._registry)
        self._waiting = self._gauge("gefa_queue_waiting", "Tasks that no worker has taken yet")
        self._working = self._gauge("gefa_tasks_working", "Tasks that workers hold")
        self._workers = self._gauge("gefa_workers", "Worker programs that show life")
        self._processes = self._gauge("gefa_processes", "Processes for pixels")
        self._free = self._gauge("gefa_disk_free_bytes", "Bytes free where the data lie")
        self._ready = self._gauge("gefa_ready", "1 if everything that is needed works")

    def _gauge(self, name: str, help: str) -> Gauge:
        return Gauge(name, help, registry=self._registry)

    def answered(self, area: str, status: int, seconds: float, sent: int) -> None:
        self._requests.labels(area, f"{status // 100}xx").inc()
        self._seconds.labels(area).observe(seconds)
        self._bytes.labels(area).inc(sent)

    def job_done(self, kind: str, outcome: str) -> None:
        self._jobs.labels(kind, outcome).inc()

    def text(self, health: Health) -> bytes:
        """All figures, with the current ``health``."""
        self._waiting.set(health.waiting)
        self._working.set(health.working)
        self._workers.set(health.workers)
        self._processes.set(health.processes)
        self._free.set(health.free)
        self._ready.set(int(health.ready))
        return generate_latest(self._registry)
