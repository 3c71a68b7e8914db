"""A hands-free run on the screen whose display does not stay as it is set: each is said where it is looked for."""

from dataclasses import replace

import pytest
from django.urls import reverse

from fenvik.session.reading import read_once
from fenvik.web.adjusting import handsfree
from fenvik.web.controls.values import values_of
from fenvik.web.passes import engine, reader, services
from fenvik.web.passes.models import PassState
from fenvik.web.visits.models import Tuning
from tests.web.adjustable import adjustable

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def ready(person, bench, now):
    return adjustable(person, bench, now, index=3, mode="Expert")


def after_sets(display, count, act):
    """Let something happen to a display after so many of its controls were set."""
    sets, done = display.set_control, []

    def counted(mode, control, value):
        made = sets(mode, control, value)
        done.append(control)
        if len(done) == count:
            display.set_control = sets
            act()
        return made

    display.set_control = counted


def run(tuning, person, now, **more):
    started = handsfree.start(tuning_id=tuning.pk, actor=person, now=now, steps=["white", "grey"], budget=110, **more)
    engine.run(started.pk)
    started.refresh_from_db()
    return started


def is_true(bench, tuning):
    really = {c["id"]: c["value"] for c in bench.displays[3].menu.described(tuning.mode_id)}
    return values_of(Tuning.objects.get(pk=tuning.pk)).now == really


def test_a_display_that_leaves_its_mode_in_the_middle_is_put_back_into_it(ready, person, now, bench, signed_in):
    display = bench.displays[3]
    other = next(m.id for m in display.menu.modes.values() if "sdr" in m.signals and m.id != ready.mode_id)
    after_sets(display, 30, lambda: display.choose_mode(other))
    started = run(ready, person, now)
    assert started.state == PassState.DONE
    assert display.mode == ready.mode_id
    assert any("left its picture mode by itself" in note for note in started.run.notes)
    assert started.run.left_score < 0.4 * started.run.found_score
    assert is_true(bench, ready)
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
    assert "left its picture mode by itself" in page


def test_what_came_back_on_by_itself_is_set_off_again_and_the_sheet_stays_true(ready, person, now, bench):
    display = bench.displays[3]
    after_sets(display, 40, lambda: display.menu.set(ready.mode_id, "eco-2", True))
    started = run(ready, person, now)
    assert started.state == PassState.DONE
    assert any("moved by itself and was set again" in note for note in started.run.notes)
    assert display.menu.values[ready.mode_id]["eco-2"] is False
    assert started.run.left_score < 0.4 * started.run.found_score
    assert is_true(bench, ready)


def test_a_meter_that_is_not_aimed_again_ends_it_with_the_reason_and_all_is_back(ready, person, now, bench, signed_in, monkeypatch):
    before = {c["id"]: c["value"] for c in bench.displays[3].menu.described(ready.mode_id)}
    count = []

    def astray(*args, **more):
        count.append(1)
        seen = read_once(*args, **more)
        return replace(seen, xyz=tuple(0.2 * v for v in seen.xyz)) if len(count) > 30 else seen

    monkeypatch.setattr(reader, "read_once", astray)
    started = run(ready, person, now)
    for _ in range(3):  # whoever is called says that it is right, and it is not
        assert started.state == PassState.PAUSED
        assert "has lost its aim" in started.reason
        page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
        assert "has lost its aim" in page
        services.resume(pass_id=started.pk, actor=person)
        engine.run(started.pk)
        started.refresh_from_db()
    assert started.state == PassState.DONE
    assert started.run.restored
    assert any("lost its aim" in note for note in started.run.notes)
    assert {c["id"]: c["value"] for c in bench.displays[3].menu.described(ready.mode_id)} == before
    assert is_true(bench, ready)
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
    assert "Everything was put back." in page
    assert "lost its aim" in page
