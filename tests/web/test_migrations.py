"""A database of an earlier commit migrates with its data: one walk up from nothing through two places, and back to the second."""

import datetime as dt

import pytest
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

NOW = dt.datetime(2026, 11, 26, tzinfo=dt.UTC)
BEFORE_PARTS = [("passes", "0007_hands_free"), ("visits", "0006_corrects_curve")]
BEFORE_ROWS = [("visits", "0011_ends")]  # what a tuning aims at and how it is measured stood in it, with its columns
AIMED = {"target_name": "bt2020-pq", "tolerance": 3.0, "roll_off": "points", "knees": [[0.5, 0.45]], "max_cll": 800.0}
MEASURED = {"window": 25.0, "bits": 10, "average": 4, "frame_rate": 24.0, "effort": "slow", "correction_choice": "none"}


def migrate(to):
    state = MigrationExecutor(connection).migrate(to)
    vars(state).pop("apps", None)  # those that the migrations used know of classes of several moments
    return state.apps.get_model


@pytest.fixture
def latest(django_db_setup, django_db_blocker):
    """The newest of all, which an empty database of its own comes to: going back from there first would take as long again."""
    name = connection.settings_dict["NAME"]
    with django_db_blocker.unblock(), connection._nodb_cursor() as anywhere:
        anywhere.execute(f"CREATE DATABASE {name}_before")
        connection.close_pool()
        connection.settings_dict["NAME"] = f"{name}_before"
        yield MigrationExecutor(connection).loader.graph.leaf_nodes()
        connection.close()
        connection.close_pool()
        connection.settings_dict["NAME"] = name
        anywhere.execute(f"DROP DATABASE {name}_before")


def read(model, meter, source, tuning):
    """Two passes of two patches, of a series each: one read whole, one stopped."""
    rows = [{"label": "100 %", "rgb": [235] * 3, "part": "main"}, {"label": "5 % window", "rgb": [235] * 3, "part": "window"}]
    for count in (2, 1):
        pass_ = model("passes", "Pass").objects.create(
            tuning=tuning, purpose="left", patches=rows, meter=meter, source=source, meter_facts={}, bits=8, window=10,
            settle_s=0, average=1, created_at=NOW, finished_at=NOW, state="done" if count == 2 else "stopped",
        )  # fmt: skip
        for index in range(count):
            model("passes", "Reading").objects.create(
                pass_of=pass_, index=index, label=rows[index]["label"], r=235, g=235, b=235, x=95, y=100, z=109,
                seconds=1, clock=1, started_at=NOW, at=NOW,
            )  # fmt: skip
        yield pass_.pk


def test_what_is_there_goes_along(latest):
    model = migrate(BEFORE_PARTS)
    firm = model("people", "Firm").objects.create(name="Before")
    client = model("clients", "Client").objects.create(firm=firm, name="A client")
    room = model("clients", "Room").objects.create(client=client, name="Snug")
    display = model("clients", "Display").objects.create(room=room, maker="O", model="55")
    visit = model("visits", "Visit").objects.create(firm=firm, client=client, on=NOW.date())
    first = model("visits", "Tuning").objects.create(visit=visit, display=display, name="first", picture_mode="Film")
    meter, source = (
        model("devices", "Device").objects.create(firm=firm, role=role, name=role, serial=role, facts={}, host="", port=0)
        for role in ("meter", "source")
    )
    whole, stopped = read(model, meter, source, first)

    model = migrate(BEFORE_ROWS)
    facts = {"visit_id": visit.pk, "display_id": display.pk, "picture_mode": "Film"}
    model("visits", "Tuning").objects.create(name="gone", **facts).delete()  # keys with a gap
    held = model("visits", "Tuning").objects.create(name="held", meter_id=meter.pk, **facts, **AIMED, **MEASURED)

    model = migrate(latest)
    passes = model("passes", "Pass").objects
    assert [passes.get(pk=pk).complete for pk in (whole, stopped)] == [True, False]
    parts = model("passes", "Reading").objects.filter(pass_of_id=whole).order_by("index").values_list("part", flat=True)
    assert list(parts) == ["main", "window"]
    new = model("visits", "Tuning").objects
    assert set(new.values_list("pk", flat=True)) == {first.pk, held.pk}
    as_it_is, before = new.get(pk=held.pk), new.get(pk=first.pk)
    assert {name: getattr(as_it_is, name) for name in AIMED | MEASURED} == AIMED | MEASURED
    assert as_it_is.meter_id == meter.pk
    assert (before.window, before.target_name, before.mastered_least) == (10.0, "bt709-bt1886", 0.005)
    later = new.create(name="later", window=50.0, **facts)

    old = migrate(BEFORE_ROWS)("visits", "Tuning").objects
    assert list(old.order_by("pk").values_list("pk", "window", "bits", "max_cll", "meter_id")) == [
        (first.pk, 10.0, 8, None, None), (held.pk, 25.0, 10, 800.0, meter.pk), (later.pk, 50.0, 8, None, None),
    ]  # fmt: skip
