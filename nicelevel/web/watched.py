"""Seen from outside: whether all is well, and figures for whoever keeps them (in Prometheus' text format)."""

import logging
import shutil
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from flask import Blueprint, Flask, Response, current_app, g, jsonify, request
from prometheus_client import CollectorRegistry, Histogram, generate_latest
from prometheus_client.exposition import CONTENT_TYPE_LATEST
from prometheus_client.metrics_core import GaugeMetricFamily, Metric
from prometheus_client.registry import Collector

from nicelevel.config import Config
from nicelevel.logs import begin_trace
from nicelevel.store.backups import last_checked, last_taken
from nicelevel.store.watched import lines_lately, rendered_lately, waiting_tasks, workers_alive
from nicelevel.work.app import STALLED_S

from .changes import changes
from .matter import matters_of_work

watched = Blueprint("watched", __name__)
logger = logging.getLogger("nicelevel.web")

SLOW_S = 2.0
TRACE_HEADER = "X-Request-ID"
SECONDS = (0.01, 0.03, 0.1, 0.3, 1.0, 3.0, 10.0)


@watched.get("/health")
def health() -> Any:
    """Whether work is taken in and done: 200, or 503 with what is the matter. Asked for by whoever watches."""
    config: Config = current_app.config["NICE_LEVEL"]
    problems = list(_problems(config))
    answer = jsonify(status="troubled" if problems else "well", problems=problems)
    answer.headers["Cache-Control"] = "no-store"
    answer.status_code = 503 if problems else 200
    return answer


def _problems(config: Config) -> Iterator[str]:
    yield from matters_of_work(config)
    if config.backup_folder:
        yield from _of_backups(config)


def _of_backups(config: Config) -> Iterator[str]:
    folder = Path(config.backup_folder)
    taken, checked = last_taken(folder), last_checked(folder)
    if taken is None or datetime.now(UTC) - taken > timedelta(hours=2 * config.backup_hours):
        yield "No backup was taken lately."
    if checked and checked.wrong:
        yield "A backup was read again and is not as it was."


@watched.get("/metrics")
def metrics() -> Response:
    """Figures of queue, work, disk, lines and requests. Of requests each web server tells its own."""
    registry: CollectorRegistry = current_app.extensions["metrics"]
    return Response(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)


class _Work(Collector):
    """What the database and the disk tell when they are asked."""

    def __init__(self, config: Config) -> None:
        self._config = config

    def collect(self) -> Iterator[Metric]:
        yield from _of_queue()
        yield from _of_renders()
        yield from _of_lines()
        usage = shutil.disk_usage(self._config.data_folder)
        yield _gauge("disk_free_bytes", "Free on the disk of the data folder.", usage.free)
        yield _gauge("disk_total_bytes", "Size of the disk of the data folder.", usage.total)
        yield _gauge("workers", "Workers that are alive.", workers_alive(STALLED_S * 2))


def _of_queue() -> Iterator[Metric]:
    waiting = GaugeMetricFamily("nice_level_queue_waiting", "Tasks that wait.", labels=["task"])
    running = GaugeMetricFamily("nice_level_queue_running", "Tasks that are at work.", labels=["task"])
    oldest = GaugeMetricFamily("nice_level_queue_oldest_seconds", "How long the oldest has waited.", labels=["task"])
    for each in waiting_tasks():
        waiting.add_metric([each.task], each.waiting)
        running.add_metric([each.task], each.running)
        oldest.add_metric([each.task], each.oldest_s)
    yield from (waiting, running, oldest)


def _of_renders() -> Iterator[Metric]:
    ended = GaugeMetricFamily("nice_level_rendered_last_hour", "Deliverables that ended so.", labels=["state"])
    took = GaugeMetricFamily(
        "nice_level_render_seconds_last_hour", "How long they took.", labels=["state", "quantile"]
    )
    for each in rendered_lately():
        ended.add_metric([each.state], each.ended)
        for quantile, seconds in (("0.5", each.median_s), ("0.95", each.most_s)):
            if seconds is not None:
                took.add_metric([each.state, quantile], seconds)
    yield from (ended, took)


def _of_lines() -> Iterator[Metric]:
    found = lines_lately()
    for name, words in (("late", "came late"), ("missing", "never came"), ("held", "are held")):
        family = GaugeMetricFamily(f"nice_level_arrivals_{name}_last_day", f"Arrivals that {words}.", labels=["line"])
        for each in found:
            family.add_metric([each.line], getattr(each, name))
        yield family


def _gauge(name: str, words: str, number: float) -> Metric:
    return GaugeMetricFamily(f"nice_level_{name}", words, value=number)


def register(app: Flask) -> None:
    """Give every request its id, time it, and log what is worth that."""
    registry = CollectorRegistry()
    registry.register(_Work(app.config["NICE_LEVEL"]))
    took = Histogram(
        "nice_level_request_seconds",
        "How long requests took, by address and status.",
        ["endpoint", "method", "status"],
        buckets=SECONDS,
        registry=registry,
    )
    app.extensions["metrics"] = registry

    @app.before_request
    def begin() -> None:
        g.begun_s = time.monotonic()
        g.trace = begin_trace(request.headers.get(TRACE_HEADER, ""))

    @app.after_request
    def end(response: Response) -> Response:
        took_s = time.monotonic() - g.get("begun_s", time.monotonic())
        endpoint = request.endpoint or "none"
        took.labels(endpoint, request.method, response.status_code).observe(took_s)
        response.headers.setdefault(TRACE_HEADER, g.get("trace", ""))
        is_change = request.method not in ("GET", "HEAD", "OPTIONS")
        if request.blueprint != changes.name and (is_change or took_s > SLOW_S or response.status_code >= 500):
            # The address itself may hold what opens a door: its name is told instead.
            told = {"endpoint": endpoint, "method": request.method, "status": response.status_code}
            arguments = " ".join(f"{name}={value}" for name, value in _shown_arguments().items())
            words = "%s %s %s: %s in %.3f s"
            logger.info(words, request.method, endpoint, arguments, response.status_code, took_s, extra=told)
        return response


def _shown_arguments() -> dict[str, Any]:
    """What stands in the address, but for what is secret in it."""
    return {name: value for name, value in (request.view_args or {}).items() if name not in ("secret", "link", "key")}
