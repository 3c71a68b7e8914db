"""Two-point adjusting from the stored rows: learning, undoing, and what a typed value may be."""

import datetime as dt
import re
import threading
import uuid
from contextlib import contextmanager

import pytest
from django.urls import reverse
from django.utils import timezone

from fenvik.core.models.grains import in_grains
from fenvik.web.adjusting.desk import lay_out
from fenvik.web.adjusting.ends import placed
from fenvik.web.adjusting.learned import keep, prior_of
from fenvik.web.adjusting.models import LearnedResponse, Workplace
from fenvik.web.adjusting.services import read_level, work_at
from fenvik.web.controls.log import ChangedMeanwhileError, NothingToUndoError, last_to_undo, log_changes, undo
from fenvik.web.controls.models import ControlChange, SettingsSheet
from fenvik.web.controls.services import SheetError, note_found
from fenvik.web.controls.values import SettingError, typed_value, values_of
from fenvik.web.demo.build import Hand, whole_job
from fenvik.web.passes import engine, services
from fenvik.web.passes.models import PassPurpose
from fenvik.web.passes.recent import recent_readings
from fenvik.web.people.models import User
from fenvik.web.results.assemble import analysis_of
from fenvik.web.results.proof import proof_of
from fenvik.web.results.verdict import verdict_of
from fenvik.web.stops.adjust.two_point import expected
from fenvik.web.visits.models import Place, Tuning
from tests.web.adjustable import adjustable
from tests.web.served import until

pytestmark = pytest.mark.django_db(transaction=True)


def desk_of(tuning):
    tuning.refresh_from_db()
    placed(tuning, Workplace.objects.filter(tuning=tuning).values_list("person", flat=True).first() or 0)
    return lay_out(tuning, values_of(tuning), recent_readings(tuning))


def log(tuning, person, now, seen=None, group=None, **values):
    typed = {name.replace("_", "-"): str(value) for name, value in values.items()}
    seen = ControlChange.objects.filter(tuning=tuning).count() if seen is None else seen
    return log_changes(tuning_id=tuning.pk, actor=person, typed=typed, seen=seen, now=now, group=group or uuid.uuid4())


def test_a_person_who_follows_the_nudges_is_done_in_four_moves_at_each_end(equipped, person, now, bench):
    hand = whole_job(equipped, person, bench, now)
    found = analysis_of(proof_of(equipped, PassPurpose.FOUND), equipped)
    left = analysis_of(proof_of(equipped, PassPurpose.LEFT), equipped)
    before, after = (a.colour_only.value[a.lit_grey].mean() for a in (found, left))
    assert before > 1.5
    assert after < 0.5
    assert left.colour_only.value[left.lit_grey].max() < 1.0
    assert hand.moves["high"] <= 4
    assert hand.moves["low"] <= 4
    verdict = verdict_of(found, left, values_of(equipped), None)
    assert verdict.better
    assert "Every grey is within 1" in verdict.sentence or "as far as the meter can tell" in verdict.sentence
    reached = not any("no control for single colours" in sentence for sentence in verdict.unreached)
    assert reached != bool((left.whole.value[left.coloured] > 1.2).any())


def test_what_was_learned_is_kept_for_the_next_sample_of_the_model(finished, now):
    desk = desk_of(finished)
    keep(tuning=finished, response=desk.response, now=now)
    keep(tuning=finished, response=desk.response, now=now)
    assert LearnedResponse.objects.count() == 1
    finished.pk = finished.aim_id = finished.measuring_id = None
    finished.save()
    prior_in = prior_of(finished, desk.controls)
    prior = prior_in(desk.controls)
    fourths = in_grains(desk.controls, ("gain", "offset"), 4, "down")
    assert prior_in(fourths).own_effect(fourths[0])[0] == pytest.approx(4.0 * prior.own_effect(desk.controls[0])[0])
    assert prior.own_effect(desk.controls[0])[0] == pytest.approx(desk.response.own_effect(desk.controls[0])[0])
    assert prior.observed == (0,) * 6


def test_a_nudge_stands_on_the_reading_before_the_person_turned(equipped, person, now, bench):
    hand = Hand(equipped, person, bench.displays[0])
    hand.measure(PassPurpose.FOUND, now)
    hand.read(now)
    desk = desk_of(equipped)
    first = desk.basis.row.pk
    assert desk.nudge.moves
    assert not desk.is_stale
    hand.turn({move.control.id: round(move.value) for move in desk.nudge.moves}, dt.datetime.now(dt.UTC), first)
    assert desk_of(equipped).is_stale
    change = ControlChange.objects.first()
    assert change.reading_before_id == first


def test_readings_that_were_taken_while_turning_teach_nothing(equipped, person, now, bench):
    """Reading continuously, a person turns first and says so afterwards."""
    from fenvik.core.signal.patches import grey
    from fenvik.web.passes import engine
    from fenvik.web.passes.services import ask_to_stop, start_pass
    from tests.web.test_passes import in_thread

    engine.stopping.clear()
    Hand(equipped, person, bench.displays[0]).measure(PassPurpose.FOUND, now)
    patch = grey(80, 8, "limited")
    live = start_pass(
        tuning_id=equipped.pk, actor=person, now=now, purpose=PassPurpose.ADJUST, patches=[patch], repeat=True
    )
    thread = in_thread(live)
    until(lambda: live.readings.count() >= 2)
    bench.displays[0].set_control("m2", "wb-gb", -12)
    seen = live.readings.count()
    until(lambda: live.readings.count() >= seen + 3)
    desk = desk_of(equipped)
    assert desk.basis.row.pk == live.readings.order_by("id")[0].pk  # the nudge has not run away meanwhile
    log(equipped, person, dt.datetime.now(dt.UTC), wb_gb=-12)
    count = live.readings.count()
    until(lambda: live.readings.count() >= count + 2)
    ask_to_stop(pass_id=live.pk, actor=person, now=now)
    thread.join(90)
    desk = desk_of(equipped)
    blue = next(c for c in desk.controls if c.id == "wb-gb")
    effect, std = desk.response.own_effect(blue)
    assert 0.0025 < effect < 0.0045  # of the signal a step; the stand-in's is about 0.0035
    assert std < 0.001


def test_changes_are_logged_once_however_often_they_are_sent(equipped, person, now):
    group = uuid.uuid4()
    first = log(equipped, person, now, group=group, wb_gr=3, wb_gb=-2)
    again = log(equipped, person, now, seen=0, group=group, wb_gr=3, wb_gb=-2)
    assert [c.pk for c in first] == [c.pk for c in again]
    assert values_of(equipped).now["wb-gr"] == 3


def test_a_page_that_is_out_of_date_changes_nothing(equipped, person, now):
    log(equipped, person, now, wb_gr=3)
    with pytest.raises(ChangedMeanwhileError, match="not stored"):
        log(equipped, person, now, seen=0, wb_gr=5)
    assert values_of(equipped).now["wb-gr"] == 3


def test_a_value_that_did_not_change_is_no_change(equipped, person, now):
    assert log(equipped, person, now, wb_gr=0) == []


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("51", "from -50 to 50"),
        ("-51", "outside"),
        ("0.5", "steps of 1"),
        ("loud", "is a number"),
        ("", "is a number"),
        ("nan", "goes from"),
        ("inf", "goes from"),
    ],
)
def test_a_typed_value_outside_its_range_has_one_sentence_and_changes_nothing(equipped, person, now, text, words):
    with pytest.raises(SettingError, match=words) as caught:
        log(equipped, person, now, wb_gr=text)
    assert caught.value.control == "wb-gr"
    assert not ControlChange.objects.exists()


def test_an_unknown_control_is_refused(equipped, person, now):
    with pytest.raises(SettingError, match="no such control"):
        log(equipped, person, now, nothing=1)


@pytest.mark.parametrize(
    ("control", "text", "value"),
    [
        ({"label": "a", "id": "a", "kind": "range", "min": -5, "max": 5, "step": 0.5}, "−2,5", -2.5),
        ({"label": "a", "id": "a", "kind": "range", "min": 0, "max": 100, "step": 1}, " 34 ", 34),
        ({"label": "a", "id": "a", "kind": "choice", "options": ["Off", "Low"]}, "low", "Low"),
        ({"label": "a", "id": "a", "kind": "switch"}, "On", True),
    ],
)
def test_what_is_typed_becomes_the_controls_own_kind_of_value(control, text, value):
    assert typed_value(control, text) == value


def test_undo_turns_back_the_last_group_and_then_the_one_before(equipped, person, now):
    first = log(equipped, person, now, wb_gr=3)[0]
    second = log(equipped, person, now, wb_gr=5, wb_gb=-1)
    changes = list(ControlChange.objects.order_by("id"))
    assert [c.pk for c in last_to_undo(changes)] == [c.pk for c in second]
    undo(tuning_id=equipped.pk, actor=person, group=second[0].group, now=now)
    assert values_of(equipped).now["wb-gr"] == 3
    assert undo(tuning_id=equipped.pk, actor=person, group=second[0].group, now=now) == []
    assert last_to_undo(list(ControlChange.objects.order_by("id")))[0].pk == first.pk
    with pytest.raises(ChangedMeanwhileError):
        undo(tuning_id=equipped.pk, actor=person, group=first.group, now=now)


def test_there_is_nothing_to_undo_at_first(equipped, person, now):
    with pytest.raises(NothingToUndoError):
        undo(tuning_id=equipped.pk, actor=person, group=uuid.uuid4(), now=now)


def test_wrong_values_on_a_sheet_each_have_a_sentence_and_nothing_is_stored(tuning, person, now):
    with pytest.raises(SheetError) as caught:
        note_found(
            tuning_id=tuning.pk, actor=person, now=now,
            typed={"pic-1": "300", "wb-gr": "x", "pic-4": "Steep", "wb-gg": "2"},
        )  # fmt: skip
    assert set(caught.value.problems) == {"pic-1", "wb-gr", "pic-4"}
    assert not SettingsSheet.objects.exists()


def test_the_levels_that_are_worked_at_stay_apart(equipped, person):
    work_at(tuning_id=equipped.pk, actor=person, end="low", level=20)
    assert placed(equipped, person.pk).place == Place(80, 20, "low")
    bo = User.objects.create_user(username="bo", firm=person.firm)
    assert placed(equipped, bo.pk).place == Place(), "another person works at a place of their own"
    with pytest.raises(SettingError, match="above the low one"):
        work_at(tuning_id=equipped.pk, actor=person, end="high", level=10)


def test_with_nothing_read_there_is_nothing_to_propose(equipped):
    desk = desk_of(equipped)
    assert desk.nudge is None
    assert desk.live is None


def test_one_change_of_a_group_is_turned_back_alone(equipped, person, now, signed_in):
    controls = {c["id"]: c for c in values_of(Tuning.objects.get(pk=equipped.pk)).controls}
    names = [name for name, c in controls.items() if (c.get("role") or "").startswith("white.gain.")][:2]
    group = uuid.uuid4()
    log_changes(
        tuning_id=equipped.pk, actor=person, typed=dict.fromkeys(names, "5"), seen=0, now=timezone.now(), group=group
    )
    page = signed_in.get(reverse("stop", args=(equipped.pk, "adjust"))).content.decode()
    assert page.count("turn back</a>") == 2
    first = ControlChange.objects.get(control=names[0])
    asked = signed_in.get(reverse("stop", args=(equipped.pk, "adjust")) + f"?ask=undo&one={first.pk}").content.decode()
    assert "Turn back:" in asked
    sent = {"stop": "adjust", "group": str(group), "one": first.pk}
    signed_in.post(reverse("act", args=(equipped.pk, "undo")), sent)
    now_values = values_of(Tuning.objects.get(pk=equipped.pk)).now
    assert (now_values[names[0]], now_values[names[1]]) == (0, 5)


@contextmanager
def reading_on(tuning, person, now):
    """Read on at the level that is worked at, until the block ends."""
    engine.stopping.clear()
    started = read_level(tuning_id=tuning.pk, actor=person, now=now, keep_reading=True)
    thread = threading.Thread(target=engine.run, args=(started.pk,))
    thread.start()
    try:
        yield started
    finally:
        services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
        thread.join(90)


def test_what_is_turned_while_reading_on_is_noticed_by_itself(equipped, person, now, bench, signed_in):
    with reading_on(equipped, person, now) as started:
        until(lambda: started.readings.count() >= 3)
        address = reverse("stop", args=(equipped.pk, "adjust"))
        assert "Something was turned" not in signed_in.get(address).content.decode()
        bench.displays[0].set_control("m2", "wb-gr", 9)
        count = started.readings.count()
        until(lambda: started.readings.count() >= count + 2)
        page = signed_in.get(address).content.decode()
        assert re.search(r"Something was turned: red \+\d", page)


def test_reading_on_for_long_leaves_the_levels_that_were_read_before(equipped, person, now, bench, monkeypatch):
    for name in ("MOST", "FOR_THE_TAPE"):
        monkeypatch.setattr(f"fenvik.web.passes.recent.{name}", 12)
    read_level(tuning_id=equipped.pk, actor=person, now=now)
    engine.run(equipped.passes.latest("id").pk)
    work_at(tuning_id=equipped.pk, actor=person, end="low")
    with reading_on(equipped, person, now) as started:
        until(lambda: started.readings.count() >= 30)
        log(equipped, person, timezone.now(), wb_gr=3)
        count = started.readings.count()
        until(lambda: started.readings.count() >= count + 30)
    rows = recent_readings(equipped, most=13)
    assert len({(row.r, row.g, row.b) for row in rows}) == 2, "the level that was read first is still there"
    assert len(rows) < 30
    firsts = started.readings.order_by("id")
    assert firsts[0] in rows, "and the first reading of each state of the controls"
    assert next(row for row in firsts if row.knew == equipped.changes.get().pk) in rows


@pytest.mark.parametrize(
    ("here", "doubt", "words"),
    [
        (1.4, 0.3, "<b>1.4 ± 0.3</b> here, <b>0.9</b> over all levels."),
        (1.4, 4.6, "<b>1.4</b> here, at worst 6.0 while it is not known what a step does, <b>0.9</b> over all levels."),
    ],
)
def test_what_is_expected_of_a_step_that_nobody_knows_is_said_as_that(here, doubt, words):
    assert expected(here, doubt, 0.9) == words


@pytest.mark.parametrize(("turned", "is_said"), [(-45, True), (0, False)])
def test_gains_that_were_turned_before_and_are_far_off_send_to_the_maker_s_values(turned, is_said, person, now, bench, signed_in):
    bench.displays[0].choose_mode("m2")
    for control in ("wb-gr", "wb-gb"):
        bench.displays[0].set_control("m2", control, turned if control == "wb-gr" else -turned)
    try:
        tuning = adjustable(person, bench, now, index=0, mode="Film")
        engine.run(services.start_pass(tuning_id=tuning.pk, actor=person, now=now, purpose=PassPurpose.FOUND).pk)
    finally:
        for control in ("wb-gr", "wb-gb"):
            bench.displays[0].set_control("m2", control, 0)
    page = signed_in.get(reverse("stop", args=(tuning.pk, "adjust")) + "?work=two").content.decode()
    assert bool(re.search(r"with 2\s+gains or offsets turned before", page)) == is_said
