"""A display whose menu and modes have the same names in several places, as many have: each is known all the same."""

import re

import pytest
from django.urls import reverse

from fenvik.standins.world import Signal
from fenvik.web.controls.maps import read_over_link
from fenvik.web.controls.services import record_changes
from fenvik.web.controls.values import values_of
from fenvik.web.devices.displays import look
from fenvik.web.devices.standing import choose_mode, clash_of
from tests.web.adjustable import adjustable
from tests.web.reading import fresh

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def expert(person, bench, now):
    """The quantum-dot LCD: three modes are called Expert, eighteen of its controls Red."""
    return adjustable(person, bench, now)


def test_the_mode_is_the_one_that_takes_the_tunings_signal(expert, person, bench, now):
    assert expert.mode_id == "q2"
    expert.signal = "hdr10"
    expert.save()
    read_over_link(tuning_id=expert.pk, actor=person, now=now)
    expert = fresh(expert)
    assert expert.mode_id == "q3"
    bench.world.signal = Signal("hdr10", "bt2020", 10, "limited", 60.0)
    look(tuning=expert, now=now)
    assert clash_of(fresh(expert), fresh(expert).display.said) == ("", "")
    expert.mode_id = ""  # never read: it is found by its name
    expert.save()
    choose_mode(tuning_id=expert.pk, actor=person, now=now)
    assert bench.displays[3].mode == "q3"
    said = fresh(expert).display.said | {"mode": "q2"}
    assert clash_of(fresh(expert), said)[0] == "The display is in Expert (SDR); this tuning is for Expert (HDR10)."


def test_a_map_that_was_kept_with_the_names_of_the_menu_itself_stays(expert, person, now):
    menu = expert.display.menu_map
    menu.controls = [c | {"label": c["label"].split(" (")[0]} for c in menu.controls]
    menu.save()
    read_over_link(tuning_id=expert.pk, actor=person, now=now)
    assert fresh(expert).display.menu_map_id == menu.pk
    assert "Red (gain)" in {c["label"] for c in values_of(fresh(expert)).controls}


def test_what_is_turned_has_a_name_that_tells_which_it_was(expert, person, now, signed_in):
    values = values_of(expert)
    assert len({c["label"] for c in values.controls}) == len(values.controls)
    record_changes(expert, values, {"wb-gr": 3, "mp-50r": -2, "cx-cyan-r": 4}, actor=person, now=now)
    page = signed_in.get(reverse("stop", args=(expert.pk, "adjust")) + "?work=light").content.decode()
    told = re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page))
    for name in ("Red (gain)", "Red (50 %)", "Red (in cyan)"):
        assert name in told
