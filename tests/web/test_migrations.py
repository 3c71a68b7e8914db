"""A database of an earlier commit migrates with its data."""

import datetime as dt

import pytest
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

NOW = dt.datetime(2026, 11, 26, tzinfo=dt.UTC)
BEFORE = [("passes", "0007_hands_free"), ("visits", "0006_corrects_curve")]


def migrate(to):
    MigrationExecutor(connection).migrate(to)
    return MigrationExecutor(connection)._create_project_state(with_applied_migrations=True).apps


@pytest.mark.django_db(transaction=True)
def test_passes_of_before_learn_what_their_readings_were_part_of_and_whether_they_are_complete():
    latest = MigrationExecutor(connection).loader.graph.leaf_nodes()
    try:
        old = migrate(BEFORE)
        model = old.get_model
        firm = model("people", "Firm").objects.create(name="Before")
        client = model("clients", "Client").objects.create(firm=firm, name="A client")
        room = model("clients", "Room").objects.create(client=client, name="Snug")
        display = model("clients", "Display").objects.create(room=room, maker="O", model="55")
        visit = model("visits", "Visit").objects.create(firm=firm, client=client, on=NOW.date())
        tuning = model("visits", "Tuning").objects.create(visit=visit, display=display, name="t", picture_mode="Film")
        devices = [
            model("devices", "Device").objects.create(firm=firm, role=role, name=role, serial=role, facts={}, host="", port=0)
            for role in ("meter", "source")
        ]
        rows = [{"label": "100 %", "rgb": [235] * 3, "part": "main"}, {"label": "5 % window", "rgb": [235] * 3, "part": "window"}]
        made = []
        for read in (2, 1):
            pass_ = model("passes", "Pass").objects.create(
                tuning=tuning, purpose="left", patches=rows, meter=devices[0], source=devices[1], meter_facts={}, bits=8, window=10,
                settle_s=0, average=1, created_at=NOW, finished_at=NOW, state="done" if read == 2 else "stopped",
            )  # fmt: skip
            made.append(pass_.pk)
            for index in range(read):
                model("passes", "Reading").objects.create(
                    pass_of=pass_, index=index, label=rows[index]["label"], r=235, g=235, b=235, x=95, y=100, z=109,
                    seconds=1, clock=1, started_at=NOW, at=NOW,
                )  # fmt: skip
        new = migrate(latest).get_model
        passes = {p.pk: p for p in new("passes", "Pass").objects.filter(pk__in=made)}
        assert [passes[pk].complete for pk in made] == [True, False]
        parts = new("passes", "Reading").objects.filter(pass_of_id=made[0]).order_by("index").values_list("part", flat=True)
        assert list(parts) == ["main", "window"]
        assert new("visits", "Tuning").objects.get(pk=tuning.pk).mastered_least == 0.005
    finally:
        migrate(latest)


AIMED = {"target_name": "bt2020-pq", "tolerance": 3.0, "roll_off": "points", "knees": [[0.5, 0.45]], "max_cll": 800.0}
MEASURED = {"window": 25.0, "bits": 10, "average": 4, "frame_rate": 24.0, "effort": "slow", "correction_choice": "none"}


@pytest.mark.django_db(transaction=True)
def test_what_a_tuning_aims_at_and_how_it_is_measured_become_rows_of_their_own_and_back():
    latest = MigrationExecutor(connection).loader.graph.leaf_nodes()
    before = [("visits", "0011_ends")]
    try:
        model = migrate(before).get_model
        firm = model("people", "Firm").objects.create(name="Before")
        client = model("clients", "Client").objects.create(firm=firm, name="A client")
        room = model("clients", "Room").objects.create(client=client, name="Snug")
        display = model("clients", "Display").objects.create(room=room, maker="O", model="55")
        visit = model("visits", "Visit").objects.create(firm=firm, client=client, on=NOW.date())
        meter = model("devices", "Device").objects.create(firm=firm, role="meter", name="m", serial="m", facts={}, host="", port=0)
        facts = {"visit": visit, "display": display, "picture_mode": "Film"}
        gone, first = (model("visits", "Tuning").objects.create(name=name, **facts) for name in ("gone", "first"))
        gone.delete()  # keys with a gap
        held = model("visits", "Tuning").objects.create(name="held", meter=meter, **facts, **AIMED, **MEASURED)
        new = migrate(latest).get_model("visits", "Tuning").objects
        assert set(new.values_list("pk", flat=True)) == {first.pk, held.pk}
        as_it_is = new.get(pk=held.pk)
        assert {name: getattr(as_it_is, name) for name in AIMED | MEASURED} == AIMED | MEASURED
        assert as_it_is.meter_id == meter.pk
        assert (new.get(pk=first.pk).window, new.get(pk=first.pk).target_name) == (10.0, "bt709-bt1886")
        later = new.create(name="later", visit_id=visit.pk, display_id=display.pk, picture_mode="Film", window=50.0)
        old = migrate(before).get_model("visits", "Tuning").objects
        assert list(old.order_by("pk").values_list("pk", "window", "bits", "max_cll", "meter_id")) == [
            (first.pk, 10.0, 8, None, None), (held.pk, 25.0, 10, 800.0, meter.pk), (later.pk, 50.0, 8, None, None),
        ]  # fmt: skip
    finally:
        migrate(latest)
