"""What is counted, in the text form that Prometheus reads."""

from typing import Any

from django.db import connection
from prometheus_client import REGISTRY, Counter, Gauge, Histogram, generate_latest

REQUESTS = Counter("fenvik_requests_total", "Requests answered.", ["view", "method", "status"])
SECONDS = Histogram(
    "fenvik_request_seconds", "How long answering took.", ["view"], buckets=(0.01, 0.025, 0.05, 0.1, 0.2, 0.5, 1.0, 2.5, 10.0)
)
LIVE = Gauge("fenvik_live_pages", "Live pages that are open in this process.")
POOL = Gauge("fenvik_pool_connections", "Database connections of this process.", ["state"])
PASSES = Gauge("fenvik_open_passes", "Passes that have not ended, of all firms.", ["state"])
JOBS = Gauge("fenvik_jobs", "Jobs of the queue, of all workers.", ["status"])
METHODS = ("GET", "HEAD", "POST")


def answered(view: str, method: str, status: int, seconds: float) -> None:
    """Count an answer."""
    REQUESTS.labels(view, method if method in METHODS else "other", str(status)).inc()
    SECONDS.labels(view).observe(seconds)


def text(live_pages: int) -> bytes:
    """Return everything that is counted; asks the database for what belongs to all processes."""
    LIVE.set(live_pages)
    stats: dict[str, Any] = connection.pool.get_stats() if connection.pool is not None else {}  # type: ignore[attr-defined]
    for state, name in (("open", "pool_size"), ("idle", "pool_available"), ("waited for", "requests_waiting")):
        POOL.labels(state).set(stats.get(name, 0))
    with connection.cursor() as cursor:
        for gauge, query in (
            (PASSES, "SELECT state, count(*) FROM passes_pass WHERE finished_at IS NULL GROUP BY state"),
            (JOBS, "SELECT status::text, count(*) FROM procrastinate_jobs GROUP BY status"),
        ):
            gauge.clear()
            cursor.execute(query)
            for state, count in cursor.fetchall():
                gauge.labels(state).set(count)
    return generate_latest(REGISTRY)
