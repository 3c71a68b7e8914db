"""How PQ ends: chosen, drawn while it is typed, kept, sent, frozen; given to a display and proved by short passes."""

import json
import re
from uuid import uuid4

import pytest
from django.db import transaction
from django.urls import reverse
from django.utils import timezone

from fenvik.core.colour.target import TARGETS
from fenvik.standins.faults import Dropped
from fenvik.standins.rpc import Refusal
from fenvik.standins.world import Signal
from fenvik.web.adjusting import trial
from fenvik.web.adjusting.given import told_of
from fenvik.web.adjusting.models import Trial
from fenvik.web.controls.installed import stands_in, was_given, was_reset
from fenvik.web.controls.services import note_found, record_changes
from fenvik.web.controls.values import values_of
from fenvik.web.devices.models import Pairing
from fenvik.web.handovers.freezing import frozen_target, target_of
from fenvik.web.handovers.services import TryingError, make_handover
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass
from fenvik.web.passes.sending import signal_of
from fenvik.web.passes.services import start_pass
from fenvik.web.visits.models import Tuning
from tests.web.adjustable import adjustable

pytestmark = pytest.mark.django_db(transaction=True)

PQ = {
    "name": "HDR", "picture_mode": "Film HDR", "purpose": "film", "signal": "hdr10", "target_name": "bt2020-pq", "tolerance": "3",
}  # fmt: skip



def act(client, tuning, act_name, **data):
    answer = client.post(reverse("act", args=(tuning.pk, act_name)), {"stop": "arrival", **data}, follow=True)
    return text_of(answer)


def text_of(answer):
    return " ".join(answer.content.decode().split())


def again(tuning):
    return Tuning.objects.get(pk=tuning.pk)


def test_a_roll_off_by_points_is_kept_shown_and_frozen(tuning, signed_in):
    form = PQ | {"roll_off": "points", "knees": "0,6:0,6 0,75:0,68"}
    act(signed_in, tuning, "keep-target", **form)
    kept = again(tuning)
    assert kept.target.knees == ((0.6, 0.6), (0.75, 0.68))
    assert target_of(json.loads(json.dumps(frozen_target(kept.target)))).knees == kept.target.knees
    page = text_of(signed_in.get(reverse("stop", args=(tuning.pk, "arrival")), {"view": "target"}))
    assert "look alike: their detail is lost" in page
    assert "are dimmed and keep their detail" in page
    assert "both rising" in act(signed_in, tuning, "keep-target", **form | {"knees": "0.7:0.6 0.6:0.7", "view": "target"})
    assert again(tuning).target.knees == kept.target.knees
    assert TARGETS["bt2020-pq"].knees == ()


def test_an_end_by_its_mastering_content_and_reference_white_is_kept_sent_and_frozen(tuning, signed_in):
    form = PQ | {"roll_off": "bt2390", "rolled_by": "greatest", "mastered": "4000", "max_cll": "1200", "diffuse": "60"}
    act(signed_in, tuning, "keep-target", **form)
    target = again(tuning).target
    assert (target.rolled_by, target.mastered, target.diffuse) == ("greatest", (1200.0, 0.005), 60.0)
    assert target_of(json.loads(json.dumps(frozen_target(target)))) == target
    tuning = again(tuning)
    tuning.source = None
    sent = signal_of(tuning).mastering
    assert (sent["max"], sent["max_cll"]) == (4000.0, 1200.0)  # what the film was made on, and what is in it


def test_an_end_is_drawn_while_it_is_typed_and_nothing_is_kept(tuning, signed_in):
    act(signed_in, tuning, "keep-target", **PQ)
    at = reverse("ending", args=(tuning.pk,))
    rolled = text_of(signed_in.get(at, {"roll_off": "bt2390", "mastered": "4000"}))
    assert "rolled off by BT.2390, chosen" in rolled
    assert "bright colours pale" in rolled
    together = text_of(signed_in.get(at, {"roll_off": "bt2390", "rolled_by": "luminance", "mastered": "4000", "diffuse": "60"}))
    assert "Bent: all three, by their luminance. 203 cd/m² become 60" in together
    points = text_of(signed_in.get(at, {"roll_off": "points", "knees": "0,6:0,6 0,75:0,68"}))
    assert points.count('role="slider"') == 2
    assert "both rising" in text_of(signed_in.get(at, {"roll_off": "points", "knees": "0.7:0.6 0.6:0.7"}))
    assert again(tuning).roll_off == "clip"


@pytest.fixture
def oled(person, bench, now):
    """The stand-ins' OLED in its mode for HDR10, paired, its menu read."""
    bench.world.signal = Signal("hdr10", "bt2020", 10, "limited", 60.0)
    tuning = adjustable(person, bench, now, index=1, mode="Cinema HDR")
    Tuning.objects.filter(pk=tuning.pk).update(signal="hdr10", target_name="bt2020-pq", luminance=None, tolerance=3.0)
    return Tuning.objects.get(pk=tuning.pk)


def tried(client, tuning, name, **data):
    """Do an act, and read the pass that it began."""
    page = act(client, tuning, name, **data)
    newest = Pass.objects.filter(tuning=tuning, finished_at=None).first()
    if newest is not None:
        engine.run(newest.pk)
    return page


def test_a_roll_off_is_given_proved_by_two_short_passes_and_undone_or_kept(oled, bench, signed_in, person, now):
    optics = bench.displays[1].optics
    view = {"view": "target"}
    assert "Its peak is not known yet" in tried(signed_in, oled, "trial-begin", kind="tone", **view)
    start_pass(tuning_id=oled.pk, actor=person, now=now)
    engine.run(Pass.objects.get().pk)
    tried(signed_in, oled, "trial-begin", kind="tone", **view)
    assert "Something else is being tried" in tried(signed_in, oled, "trial-begin", kind="tone", **view)
    with pytest.raises(TryingError, match="still being tried"):
        make_handover(visit_id=oled.visit_id, actor=person, now=now)
    tried(signed_in, oled, "trial-do", **view)
    assert optics.installed.of(again(oled).mode_id).tone is not None
    here = trial.told(again(oled))
    assert here.step == "judge"
    judged = here.figures[0]
    assert here.is_better
    assert judged.second < judged.first
    assert "Better: keep it" in text_of(signed_in.get(reverse("stop", args=(oled.pk, "arrival")), view))
    tried(signed_in, oled, "trial-undo", **view)
    assert optics.installed.of(again(oled).mode_id).tone is None
    assert trial.given(again(oled)) is None
    # What a run had installed before comes back.
    stood = {"peak": 900.0, "knee": [[0.6, 0.6]]}
    optics.installed.of(again(oled).mode_id).put("tone", stood, optics.build.installs)
    was_given(oled.display_id, again(oled).mode_id, "tone", stood, now)
    for name in ("trial-begin", "trial-do"):
        tried(signed_in, oled, name, kind="tone", **view)
    given = optics.installed.of(again(oled).mode_id).tone
    tried(signed_in, oled, "trial-undo", **view)
    assert given != optics.installed.of(again(oled).mode_id).tone is not None
    assert stands_in(oled.display_id, again(oled).mode_id) == {"tone": stood}
    optics.installed.of(again(oled).mode_id).take_away("tone", optics.build.installs)
    was_reset(oled.display_id, again(oled).mode_id, now)
    for name in ("trial-begin", "trial-do", "trial-keep"):
        tried(signed_in, oled, name, kind="tone", **view)
    assert told_of(again(oled))[0].startswith("It was given the roll-off of this target, up to")
    assert "The display was given" in text_of(signed_in.get(reverse("stop", args=(oled.pk, "arrival")), view))
    tried(signed_in, oled, "tone-away", **view)
    assert told_of(again(oled)) == []
    assert optics.installed.of(again(oled).mode_id).tone is None
    assert Trial.objects.filter(kept=True).count() == 0


def test_a_reference_white_of_its_own_is_not_given_as_a_roll_off(oled, signed_in):
    Tuning.objects.filter(pk=oled.pk).update(diffuse=100.0)
    assert "Hands-free installs" in tried(signed_in, oled, "trial-begin", kind="tone", view="target").replace("hands", "Hands")


def sdr_beside(oled, person, now, **values):
    """An SDR tuning of the same display whose white balance was turned."""
    other = Tuning.objects.create(
        visit=oled.visit, display=oled.display, name="Lounge, film", picture_mode="Cinema", settle_s=0, meter=oled.meter,
        source=oled.source,
    )  # fmt: skip
    note_found(tuning_id=other.pk, actor=person, typed={}, now=now)
    with transaction.atomic():
        record_changes(other, values_of(other), values, actor=person, now=now)
    return other


def gains(tuning):
    return [c for c in values_of(again(tuning)).controls if (c["role"] or "").startswith("white.gain.")]


@pytest.mark.parametrize("linked", [True, False])
def test_a_white_balance_of_sdr_is_tried_and_what_makes_it_worse_is_undone(linked, oled, bench, signed_in, person, now):
    red, green, _ = gains(oled)
    stood = values_of(oled).now[red["id"]]
    sdr_beside(oled, person, now, **{red["id"]: red["min"], "sharpness-of-nothing": 3})
    if not linked:
        Pairing.objects.all().delete()
    view = {"view": "sheets"}
    assert "Lounge, film was adjusted in SDR" in text_of(signed_in.get(reverse("stop", args=(oled.pk, "arrival")), view))
    tried(signed_in, oled, "trial-begin", kind="carried", **view)
    assert trial.told(again(oled)).trial.data == {red["id"]: red["min"]}
    page = tried(signed_in, oled, "trial-do", **view)
    if not linked:
        assert "the list beside says what to turn" in page
        assert trial.told(again(oled)).step == "turn"
        bench.displays[1].set_control(again(oled).mode_id, red["id"], red["min"])
        act(signed_in, oled, "turned", seen="0", group=str(uuid4()), **{f"value-{red['id']}": str(red["min"])})
        assert trial.told(again(oled)).step == "read"
        with transaction.atomic():
            tuning = again(oled)
            record_changes(tuning, values_of(tuning), {green["id"]: green["min"]}, actor=person, now=timezone.now())
        tried(signed_in, oled, "trial-read", **view)
    here = trial.told(again(oled))
    assert here.step == "judge"
    assert here.is_better is False
    assert here.beside == (() if linked else (green["label"],))
    page = tried(signed_in, oled, "trial-undo", **view)
    if linked:
        assert bench.displays[1].menu.values[again(oled).mode_id][red["id"]] == stood
        assert values_of(again(oled)).now[red["id"]] == stood
    else:
        assert "what to turn back" in page
    assert trial.told(again(oled)) is None
    assert green["id"] not in Trial.objects.get().data


@pytest.mark.parametrize(
    "typed",
    [
        {"knees": "²:1", "roll_off": "points"}, {"knees": "nan:nan", "roll_off": "points"}, {"knees": "0:0", "roll_off": "points"},
        {"knees": "0.1:0.9 1:1", "roll_off": "points"}, {"mastered": "nan"},
        {"mastered": "1e309"}, {"max_cll": "inf"}, {"diffuse": "-5"}, {"roll_off": "moon"}, {"rolled_by": "moon"},
        {"roll_off": "bt2390", "mastered": "10000", "max_cll": "50", "diffuse": "5", "rolled_by": "luminance"},
        {"roll_off": "bt2390", "mastered": "100", "diffuse": "500", "mastered_least": "1"},
        {"roll_off": "bt2390", "mastered": "100", "diffuse": "500", "rolled_by": "greatest"},
    ],
)  # fmt: skip
def test_what_is_typed_of_an_end_is_drawn_or_has_its_sentence(typed, tuning, signed_in):
    act(signed_in, tuning, "keep-target", **PQ)
    answer = signed_in.get(reverse("ending", args=(tuning.pk,)), typed)
    page = text_of(answer)
    assert answer.status_code == 200
    assert not {"nan", "inf"} & set(re.findall(r"[a-z]+", page.lower()))
    assert ('role="alert"' in page) != ("<svg" in page)


def test_a_display_that_refuses_a_roll_off_stays_as_it_was_and_the_trial_goes_on(oled, bench, signed_in, person, now, monkeypatch):
    view = {"view": "target"}
    start_pass(tuning_id=oled.pk, actor=person, now=now)
    engine.run(Pass.objects.get().pk)
    tried(signed_in, oled, "trial-begin", kind="tone", **view)
    installed = bench.displays[1].optics.installed.of(oled.mode_id)
    with monkeypatch.context() as broken:
        def refuse(*_):
            raise Refusal(3, "Not now.")

        broken.setattr(installed, "put", refuse)
        assert "Not now" in tried(signed_in, oled, "trial-do", **view)
    assert installed.tone is None
    assert stands_in(oled.display_id, oled.mode_id) == {}
    here = trial.told(again(oled))
    assert (here.step, here.trial.done_at, here.trial.was_sent) == ("do", None, False)
    tried(signed_in, oled, "trial-do", **view)
    # Its second pass is stopped half way: it is no proof, and is read again.
    begun = trial.told(again(oled)).trial.after
    begun.readings.filter(index__gt=3).delete()
    assert trial.told(again(oled)).step == "read"
    tried(signed_in, oled, "trial-read", **view)
    assert trial.told(again(oled)).step == "judge"


@pytest.mark.parametrize("then", ["trial-undo", "trial-do"])
def test_a_line_that_breaks_before_the_answer_leaves_no_roll_off_that_nobody_knows_of(
    then, oled, bench, signed_in, person, now, monkeypatch
):
    view = {"view": "target"}
    start_pass(tuning_id=oled.pk, actor=person, now=now)
    engine.run(Pass.objects.get().pk)
    tried(signed_in, oled, "trial-begin", kind="tone", **view)
    installed = bench.displays[1].optics.installed.of(oled.mode_id)
    put = installed.put
    with monkeypatch.context() as broken:
        def and_gone(*given):
            put(*given)
            raise Dropped

        broken.setattr(installed, "put", and_gone)
        assert "closed the connection" in tried(signed_in, oled, "trial-do", **view)
    assert installed.tone is not None
    assert set(stands_in(oled.display_id, oled.mode_id)) == {"tone"}, "it may be there"
    assert trial.told(again(oled)).step == "do"
    tried(signed_in, oled, then, **view)
    if then == "trial-do":
        assert trial.told(again(oled)).step == "judge"
        tried(signed_in, oled, "trial-undo", **view)
    assert installed.tone is None
    assert stands_in(oled.display_id, oled.mode_id) == {}
