"""How long pages take in the server, on a firm with many visits and tunings."""

import datetime as dt
import statistics

from common import a_tuning, p95, say, seconds, set_up

VISITS = 1000
TUNINGS_EACH = 5


def _million_readings(cursor, like):  # type: ignore[no-untyped-def]
    """Give every tuning a finished pass of 200 readings, as the database's own statements: 1,000,000 of them."""
    from fenvik.web.passes.models import Pass

    # Every column as it is, so that the bench does not grow old with the table.
    columns = [f'"{f.column}"' for f in Pass._meta.local_concrete_fields if f.column not in ("id", "tuning_id")]
    listed = ", ".join(columns)
    cursor.execute(
        f"INSERT INTO passes_pass (tuning_id, {listed}) SELECT t.id, {', '.join(f'p.{c}' for c in columns)} FROM visits_tuning t "
        "CROSS JOIN (SELECT * FROM passes_pass WHERE tuning_id = %s AND purpose = 'found' LIMIT 1) p WHERE t.id <> %s",
        [like.pk, like.pk],
    )
    cursor.execute(
        """
        INSERT INTO passes_reading (pass_id, index, label, r, g, b, x, y, z, too_dark, seconds, clock, started_at, at)
        SELECT p.id, i, 'a patch', 100, 100, 100, 95, 100, 109, false, 1, i, now(), now()
        FROM passes_pass p CROSS JOIN generate_series(0, 199) i WHERE p.tuning_id <> %s
        """,
        [like.pk],
    )


def _large(tuning, person):  # type: ignore[no-untyped-def]
    """Return a tuning whose display has a menu of 120 controls."""
    from fenvik.web.clients.models import Display
    from fenvik.web.controls.blocks import block, joined
    from fenvik.web.controls.models import MenuMap
    from fenvik.web.visits.models import Tuning

    controls = joined([], block("levels", {"levels": "40"}))
    menu = MenuMap.objects.create(firm=person.firm, maker="Large", model="120", controls=controls)
    display = Display.objects.create(room=tuning.display.room, maker="Large", model="120", menu_map=menu)
    return Tuning.objects.create(visit=tuning.visit, display=display, name="large", picture_mode="Film").pk


def main() -> None:
    set_up()
    from django.conf import settings
    from django.test import Client

    settings.ALLOWED_HOSTS, settings.ROOT_URLCONF = ["testserver"], "looped"
    from django.db import connection

    from fenvik.standins.bench import make_bench
    from fenvik.web.demo.build import served, whole_job
    from fenvik.web.visits.models import Tuning, Visit

    bench = make_bench(haste=float("inf"))
    with served(bench) as address:
        tuning, person = a_tuning(address)
        whole_job(tuning, person, bench, dt.datetime.now(dt.UTC))
    firm, visit = tuning.visit.firm, tuning.visit
    today = dt.date.today()  # noqa: DTZ011
    visits = Visit.objects.bulk_create(
        Visit(firm=firm, client=visit.client, on=today - dt.timedelta(days=i % 400)) for i in range(VISITS)
    )
    facts = {"display": tuning.display, "picture_mode": "Film", "meter": tuning.meter, "source": tuning.source}
    for v in visits:
        for i in range(TUNINGS_EACH):
            Tuning.objects.create(visit=v, name=f"tuning {i}", **facts)
    with connection.cursor() as cursor:
        _million_readings(cursor, tuning)
        cursor.execute("ANALYZE")  # as PostgreSQL does by itself within a minute
    client = Client()
    client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
    addresses = {
        "visits": "/visits/",
        "clients": "/clients/",
        "a visit": f"/visits/{visits[0].pk}/",
        "find": "/find/?q=snug",
    }
    addresses["proposals"] = f"/visits/{visit.pk}/displays/{tuning.display_id}/"
    addresses["a display"] = f"/displays/{tuning.display_id}/"
    addresses |= {
        f"arrival {part}": f"/tunings/{tuning.pk}/arrival/?view={part}"
        for part in ("sheets", "display", "menu", "target")
    }
    addresses |= {
        f"groundwork {part}": f"/tunings/{tuning.pk}/groundwork/?view={part}"
        for part in ("checks", "levels", "patterns", "warm-up")
    }
    addresses["a sheet of 120 controls"] = f"/tunings/{_large(tuning, person)}/arrival/"
    addresses |= {"adjust, light": f"/tunings/{tuning.pk}/adjust/?work=light", "compare": f"/tunings/{tuning.pk}/compare/"}
    addresses |= {
        f"stop {stop}": f"/tunings/{tuning.pk}/{stop}/" for stop in ("arrival", "found", "adjust", "left", "handover")
    }
    for name, address in addresses.items():
        for _ in range(3):
            assert client.get(address).status_code == 200
        queries: list[str] = []

        def count(execute, sql, params, many, context, queries=queries):  # type: ignore[no-untyped-def]
            queries.append(sql)
            return execute(sql, params, many, context)

        with connection.execute_wrapper(count):
            size = len(client.get(address).content)
        taken = seconds(lambda where=address: client.get(where), 40)
        middle = 1000 * statistics.median(taken)
        say(f"{name}, {len(queries)} queries, median {middle:.0f}, p95", 1000 * p95(taken), "ms", "below 60 is wanted")
        if name.startswith("stop"):
            looped = f"/looped/{size}/{len(queries)}/{tuning.passes.first().pk}/"
            same = client.get(looped)
            assert (same.status_code, 0.9 < len(same.content) / size < 1.1) == (200, True)
            both = [(seconds(lambda where=address: client.get(where), 1)[0], seconds(lambda where=looped: client.get(where), 1)[0])
                    for _ in range(40)]  # fmt: skip
            ours, theirs = (statistics.median(one) for one in zip(*both, strict=True))
            say(f"{name}, {size / 1000:.0f} kB: ratio to a looped page as large", ours / theirs, "", "0.8 or less is wanted")


if __name__ == "__main__":
    main()
