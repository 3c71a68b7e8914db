"""Stored readings a second: a pass against a bare loop of show, read, BEGIN, INSERT, NOTIFY, COMMIT."""

import statistics
import time
from datetime import UTC, datetime

import psycopg
from common import a_tuning, say, set_up

COUNT = 300
ROUNDS = 3
INSERT = """
INSERT INTO passes_reading (pass_id, index, label, r, g, b, x, y, z, too_dark, seconds, clock, started_at, at)
VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, false, %s, %s, %s, %s)
"""


def main() -> None:
    set_up()
    from django.db import connections

    from fenvik.core.signal.patches import grey
    from fenvik.link.devices import Meter, Source
    from fenvik.standins.bench import make_bench
    from fenvik.web.demo.build import served
    from fenvik.web.devices.services import locate
    from fenvik.web.passes import engine
    from fenvik.web.passes.models import PassPurpose
    from fenvik.web.passes.services import start_pass

    patches = [grey(float(20 + i % 80), 8, "limited") for i in range(COUNT)]
    with served(make_bench(haste=float("inf"))) as address:
        tuning, person = a_tuning(address)

        def start():  # type: ignore[no-untyped-def]
            return start_pass(
                tuning_id=tuning.pk, actor=person, now=datetime.now(UTC), purpose=PassPurpose.CHECK, patches=patches
            )

        def through_fenvik() -> float:
            started = start()
            begun = time.perf_counter()
            engine.run(started.pk)
            assert started.readings.count() == COUNT
            return time.perf_counter() - begun

        def bare() -> float:
            started = start()
            given = connections["default"].get_connection_params()
            wanted = {k: given[k] for k in ("host", "port", "dbname", "user", "password")}
            begun = time.perf_counter()
            source, meter = Source(locate(tuning.source)), Meter(locate(tuning.meter))
            with psycopg.connect(**wanted) as connection:
                connection.commit()
                for index, patch in enumerate(patches):
                    source.patch(patch.rgb, window=10)
                    now = datetime.now(UTC)
                    reading = meter.read()
                    connection.execute(
                        INSERT,
                        (
                            started.pk,
                            index,
                            patch.label,
                            *patch.rgb,
                            *reading.xyz,
                            reading.seconds,
                            reading.clock,
                            now,
                            now,
                        ),
                    )
                    connection.execute("SELECT pg_notify('fenvik_bare', %s)", (str(index),))
                    connection.commit()
            taken = time.perf_counter() - begun
            source.connection.close()
            meter.connection.close()
            started.finished_at = datetime.now(UTC)
            started.save()
            return taken

        through_fenvik(), bare()
        ours = [through_fenvik() for _ in range(ROUNDS)]
        theirs = [bare() for _ in range(ROUNDS)]
    say("readings a second, bare loop", COUNT / statistics.median(theirs))
    say("readings a second, a pass", COUNT / statistics.median(ours))
    say("ratio: pass / bare loop", statistics.median(theirs) / statistics.median(ours), "", "0.8 or more is wanted")


if __name__ == "__main__":
    main()
