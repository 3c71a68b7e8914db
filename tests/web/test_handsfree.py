"""Hands-free from the web: every reading and change kept, stopped, cut off, paused, taken back; judged by true light."""

import datetime as dt
import threading

import numpy as np
import pytest
from django.urls import reverse

from fenvik.core.colour import difference
from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.procedures import correcting
from fenvik.core.signal.decoding import encode
from fenvik.standins.world import Picture
from fenvik.web.adjusting import handsfree, runner
from fenvik.web.adjusting.rig import Rig
from fenvik.web.adjusting.runner import HandsFreeRunner
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import values_of
from fenvik.web.corrections.models import Correction
from fenvik.web.devices.displays import answer_code, show_code
from fenvik.web.devices.models import Device
from fenvik.web.passes import engine, services
from fenvik.web.passes.models import PassState, Reading
from tests.web.adjustable import adjustable
from tests.web.served import until

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("impatient")]


@pytest.fixture
def ready(person, bench, now):
    return adjustable(person, bench, now)


def truth(bench, display, mode, target):
    """Return mean and worst CIEDE2000 of the true light of 19 greys above 5 %."""
    xyz = []
    levels = np.linspace(100, 0, 21)
    for level in levels:
        code = tuple(int(c) for c in encode((level,) * 3, 10, "limited"))
        bench.world.picture = Picture(rgb=code, window=10.0, surround=(64, 64, 64))
        xyz.append(spectrum_to_xyz(display.optics.radiance(mode, (0.5, 0.5))))
    xyz = np.array(xyz)
    wanted = target.xyz(np.repeat(levels[:, None] / 100.0, 3, axis=1), xyz[0, 1], xyz[20, 1])
    error = difference.whole(wanted, xyz, target.white * xyz[0, 1]).total[:19]
    return error.mean(), error.max()


def begin(tuning, person, now, **more):
    wanted = {"steps": ["white", "grey"], "budget": 120} | more
    return handsfree.start(tuning_id=tuning.pk, actor=person, now=now, **wanted)


def in_thread(started):
    thread = threading.Thread(target=engine.run, args=(started.pk,))
    thread.start()
    return thread


def sheet(tuning):
    return values_of(type(tuning).objects.get(pk=tuning.pk)).now


def really(bench, index=3, mode="q2"):
    return {c["id"]: c["value"] for c in bench.displays[index].menu.described(mode)}


def test_a_run_leaves_the_display_right_and_its_sheet_true(ready, person, now, bench, signed_in):
    display = bench.displays[3]
    before = truth(bench, display, "q2", ready.target)
    started = begin(ready, person, now, steps=["light", "white", "grey", "colour"], budget=150)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    after = truth(bench, display, "q2", ready.target)
    assert before[0] > 4
    assert after[0] < 0.6
    assert after[1] < 1.0
    job = started.run
    assert job.readings == started.readings.count() <= 150
    assert job.left_score < job.found_score
    assert sheet(ready) == really(bench), "the sheet says what the display has"
    assert job.moves == ControlChange.objects.filter(of_pass=started).count() > 20
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
    assert f"in {job.readings} readings" in page
    assert "Turned off before measuring" in page
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=colours").content.decode()
    assert page.count('class="mark"') >= 10, "what it read of the colours is drawn: six full, and the pale ones that were moved"


def test_a_run_can_be_taken_back_as_a_whole(ready, person, now, bench, signed_in):
    before = really(bench)
    started = begin(ready, person, now, steps=["white"], budget=70)
    engine.run(started.pk)
    assert really(bench) != before
    assert handsfree.put_back(pass_id=started.pk, actor=person, now=now) > 3
    assert really(bench) == before
    assert sheet(ready) == before
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
    assert "Taken back: everything stands as before the run." in page
    assert "turned, and all put back" in page, "the trail counts what stands changed, not what was once turned"
    assert handsfree.put_back(pass_id=started.pk, actor=person, now=now) == 0
    started.run.refresh_from_db()
    assert {"wb-gr", "wb-gb"} <= set(started.run.teaches["effects"])
    assert begin(ready, person, now).run.taught == started.run.teaches, "the next run in this mode of the model begins with it"
    wider = [{**control, "max": 500} for control in started.run.controls]
    assert handsfree.taught_by(handsfree.loaded(ready.pk, person), wider) is None, "a step of another range does something else"


@pytest.mark.parametrize("on_stop", ["restore", "keep"])
def test_it_stops_within_one_reading_and_does_what_was_asked(on_stop, ready, person, now, bench):
    before = really(bench)
    bench.world.haste = 40.0
    started = begin(ready, person, now, on_stop=on_stop)
    thread = in_thread(started)
    until(lambda: ControlChange.objects.filter(of_pass=started).count() > 8)
    count = Reading.objects.filter(pass_of=started).count()
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    thread.join(90)
    started.refresh_from_db()
    assert started.state == PassState.STOPPED
    assert started.readings.count() <= count + 2
    assert (really(bench) == before) == (on_stop == "restore")
    assert sheet(ready) == really(bench)


def test_a_run_that_was_cut_off_goes_on_and_reads_nothing_twice(ready, person, now, bench, monkeypatch):
    """As if the worker had been killed: no line is ended in an orderly way, and the next one begins from what is stored."""

    started = begin(ready, person, now)
    cut_off(started, monkeypatch)
    read = started.readings.count()
    assert read >= 18
    bench.displays[3].set_control("q2", "wb-gr", 7)  # somebody turned something meanwhile
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    rows = list(started.readings.order_by("id"))
    assert [row.index for row in rows] == list(range(len(started.patches)))
    assert sheet(ready) == really(bench)
    assert truth(bench, bench.displays[3], "q2", ready.target)[0] < 0.7


class Killed(BaseException):
    pass


def cut_off(started, monkeypatch, after=30):
    """Run until so many controls were set, and no further."""
    send, sent = Rig._send, []

    def killed(self, control, value):
        sent.append(control)
        if len(sent) == after:
            raise Killed
        return send(self, control, value)

    with monkeypatch.context() as patched:
        patched.setattr(Rig, "_send", killed)
        with pytest.raises(Killed):
            engine.run(started.pk)


@pytest.fixture
def beside(ready):
    """The tuning with a quick meter, and the reference that stands beside it."""
    reference, ready.meter = ready.meter, Device.objects.get(serial="PC1-2209")
    ready.save()
    return reference


def test_a_reference_beside_the_meter_corrects_it_within_the_run(ready, beside, person, now, bench, monkeypatch, signed_in):
    """Once processing is off; what was read before is looked at through it; cut off behind it, it is not made twice."""
    started = begin(ready, person, now, reference_id=beside.pk)
    cut_off(started, monkeypatch)
    engine.run(started.pk)
    started.refresh_from_db()
    made = Correction.objects.get()
    assert (started.state, started.correction, made.from_pass) == (PassState.DONE, made, started)
    assert made.reference_serial == beside.serial
    assert type(ready).objects.get(pk=ready.pk).correction == made, "it is in force for what is measured next"
    rows = list(started.readings.order_by("id"))
    assert [row.index for row in rows] == list(range(len(started.patches)))
    compared = [i for i, row in enumerate(rows) if row.part == "comparison"]
    assert min(compared) > started.run.proof, "as found is read first"
    assert all(row.seen == (row.x, row.y, row.z) for row in rows if row.part == "comparison")
    shown = {row["label"]: np.array(row["reference"]) for row in made.rows}
    assert shown["white"][1] == pytest.approx(sum(shown[name][1] for name in ("red", "green", "blue")), rel=0.05)
    assert started.run.readings == len(rows) - len(compared)
    told = [row.label for row in rows[started.run.left_from :] if row.part != "comparison"]
    assert told[0] == "100 %", "what is left is drawn from its white on, whatever of it was read twice"
    assert len(set(told)) == 9
    assert made.warnings == []
    assert truth(bench, bench.displays[3], "q2", ready.target)[0] < 0.7
    assert any("The reference was read again" in note for note in started.run.notes)
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
    assert beside.name in page, "it is offered for the next run"
    assert 0 < started.run.left_score < started.run.found_score


@pytest.mark.parametrize("at", [3, 7])
def test_cut_off_in_the_middle_of_a_comparison_it_goes_on_there(at, ready, beside, person, now, bench, monkeypatch):
    takes, read = HandsFreeRunner.take_one, []

    def killed(runner, percent, by=""):
        if by == "reference" and not read.append(percent) and len(read) == at:
            raise Killed
        return takes(runner, percent, by)

    started = begin(ready, person, now, reference_id=beside.pk)
    with monkeypatch.context() as patched:
        patched.setattr(HandsFreeRunner, "take_one", killed)
        with pytest.raises(Killed):
            engine.run(started.pk)
    taken = started.readings.count()
    engine.run(started.pk)
    started.refresh_from_db()
    rows = list(started.readings.order_by("id"))
    assert (started.state, len(rows) > taken) == (PassState.DONE, True)
    assert [row.index for row in rows] == list(range(len(started.patches)))
    assert Correction.objects.get() == started.correction
    assert not any("before the end" in note for note in started.run.notes)
    assert truth(bench, bench.displays[3], "q2", ready.target)[0] < 0.7


def test_a_run_that_an_earlier_version_began_goes_on_as_it_was_begun(ready, beside, person, now, bench, monkeypatch):
    """It had both meters read black for the correction too."""
    with monkeypatch.context() as patched:
        patched.setattr(runner, "NAMED", (*correcting.NAMED, "black"))
        started = begin(ready, person, now, steps=["white"], budget=70, reference_id=beside.pk)
        cut_off(started, monkeypatch, after=8)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert started.correction is not None
    assert not any("before the end" in note or "No correction" in note for note in started.run.notes)


def test_a_reference_that_does_not_look_at_the_screen_is_named(beside, ready, person, now, bench, settings):
    settings.DEVICE_PATIENCE_S = 1.0
    bench.world.aim[beside.serial] = (0.45, 0.45)
    started = begin(ready, person, now, reference_id=beside.pk)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.PAUSED
    assert started.reason.startswith(f"{beside.name} reads the same of two patches that differ")


@pytest.mark.parametrize(("after", "is_corrected"), [(1, False), (5, True)])
def test_it_goes_on_without_a_reference_that_is_gone_if_somebody_says_so(
    after, is_corrected, ready, beside, person, now, bench, settings, monkeypatch, signed_in
):
    settings.DEVICE_PATIENCE_S = 0.5
    gone = next(m for m in bench.meters if m.serial == beside.serial)
    gone.fault.start("drop", after=after)
    started = begin(ready, person, now, reference_id=beside.pk)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.PAUSED
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
    assert "Go on without the reference" in page
    signed_in.post(reverse("act", args=(ready.pk, "without-reference")), {"pass": started.pk})
    if is_corrected:
        engine.run(started.pk)
    else:
        cut_off(started, monkeypatch)  # and it is led again over what was left out
        engine.run(started.pk)
    started.refresh_from_db()
    assert (started.state, started.run.restored) == (PassState.DONE, False)
    assert (started.correction is not None) == is_corrected
    said = "The reference was left out from here on, as somebody said."
    assert sum(said in note for note in started.run.notes) == 1
    assert not any("before the end" in note for note in started.run.notes)
    assert truth(bench, bench.displays[3], "q2", ready.target)[0] < (0.7 if is_corrected else 2.0)
    with pytest.raises(handsfree.HandsFreeError, match="does not wait"):
        handsfree.go_on_without(pass_id=started.pk, actor=person)


def test_a_correction_that_cannot_be_believed_leaves_the_one_in_force(ready, beside, person, now, bench, monkeypatch):
    first = Correction.objects.create(
        firm=person.firm, meter=ready.meter, display=ready.display, technology="lcd", method="four-colour", rows=[],
        matrix=[[1.02, 0, 0], [0, 1, 0], [0, 0, 0.97]], made_at=now,
    )  # fmt: skip
    type(ready).objects.filter(pk=ready.pk).update(correction=first, correction_choice="chosen")
    monkeypatch.setattr(correcting, "speaks_against", lambda *_, **__: "something dims it.")
    started = begin(ready, person, now, steps=["white"], budget=70, reference_id=beside.pk)
    engine.run(started.pk)
    started.refresh_from_db()
    assert (started.state, started.correction) == (PassState.DONE, first)
    assert "No correction was made: something dims it." in started.run.notes
    with pytest.raises(handsfree.HandsFreeError, match="Choose a reference"):
        begin(ready, person, now, reference_id=ready.meter_id)


def test_a_step_that_would_be_another_one_now_is_said_and_nothing_is_read_on_top_of_it(ready, person, now, bench, monkeypatch):
    started = begin(ready, person, now, budget=70)
    cut_off(started, monkeypatch, after=20)
    read = started.readings.count()
    step = started.steps.filter(kind="set")[3]
    step.asked = {"control": "another", "value": 1}  # as a version with other rules had it
    step.save()
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.STOPPED
    assert f"Step {step.number + 1} of this run was to set another" in started.run.notes[-1]
    assert "Fenvik was renewed meanwhile" in started.run.notes[-1]
    assert started.readings.count() == read


def test_what_was_decided_before_an_end_holds_where_it_would_be_decided_otherwise_now(ready, person, now, bench, monkeypatch):
    started = begin(ready, person, now, budget=90)
    cut_off(started, monkeypatch)
    step = next(s for s in started.steps.filter(kind="set").order_by("number") if s.asked["control"].startswith("wb-"))
    step.asked = step.asked | {"value": step.asked["value"] + 1}  # as another processor had rounded it
    step.save()
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert any(f"Step {step.number + 1}: as it was decided before the end" in note for note in started.run.notes)
    assert sheet(ready) == really(bench)


def test_a_control_that_does_not_move_is_gone_through_again_like_any_other(ready, person, now, bench, monkeypatch):
    display, moves = bench.displays[3], bench.displays[3].set_control
    stands = display.menu.values["q2"]["wb-gg"]
    monkeypatch.setattr(display, "set_control", lambda mode, name, value: stands if name == "wb-gg" else moves(mode, name, value))
    started = begin(ready, person, now, budget=90)
    cut_off(started, monkeypatch)
    kept = started.steps.filter(number__lt=started.steps.count() - 1).order_by("number")
    steps = list(kept.values_list("number", "kind", "asked", "came"))
    engine.run(started.pk)
    started.refresh_from_db()
    again = list(started.steps.filter(number__lt=len(steps)).order_by("number").values_list("number", "kind", "asked", "came"))
    assert again == steps
    assert started.state == PassState.DONE
    assert [row.index for row in started.readings.order_by("id")] == list(range(len(started.patches)))


def test_what_is_turned_only_to_see_whether_it_moves_is_logged_both_ways(ready, person, now, bench, monkeypatch):
    """A display that feels every fourth step alone: a first step seems to do nothing, so it is tried by eight."""
    display, moves = bench.displays[3], bench.displays[3].set_control
    monkeypatch.setattr(
        display, "set_control", lambda mode, name, value: moves(mode, name, int(value / 4) * 4 if name.startswith("wb-") else value)
    )
    started = begin(ready, person, now, steps=["white"], budget=70)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert sheet(ready) == really(bench)
    changed = {}
    for change in ControlChange.objects.filter(of_pass=started).order_by("id"):
        assert changed.get(change.control, change.before) == change.before
        changed[change.control] = change.after


@pytest.mark.parametrize(
    ("role", "kind"),
    [("meter", "drop"), ("display", "hang"), ("source", "garbage"), ("meter", "wrong-shape"), ("reference", "drop")],
)
def test_a_device_that_fails_for_a_while_costs_nothing(role, kind, ready, person, now, bench, settings, request):
    settings.DEVICE_PATIENCE_S = 15.0
    beside = request.getfixturevalue("beside").pk if role == "reference" else 0
    started = begin(ready, person, now, reference_id=beside)
    spectro = next(m for m in bench.meters if m.serial == "TS2-0031")
    device = {"meter": spectro, "reference": spectro, "source": bench.sources[0], "display": bench.displays[3]}[role]
    device.fault.start(kind, after=5 if beside else 25, lasts_s=1.2)
    engine.run(started.pk)
    device.fault.start("")
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert truth(bench, bench.displays[3], "q2", ready.target)[0] < 0.7
    assert sheet(ready) == really(bench)


def test_a_run_that_is_stopped_while_it_is_paused_is_put_back_all_the_same(ready, person, now, bench):
    before = really(bench)
    started = begin(ready, person, now)
    bench.meters[1].fault.start("drop", after=40)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.PAUSED
    assert really(bench) != before
    bench.meters[1].fault.start("")
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.STOPPED
    assert really(bench) == before
    assert sheet(ready) == before
    assert started.run.restored


def test_a_curtain_that_is_opened_pauses_it_and_it_goes_on_with_what_was_good(ready, person, now, bench, monkeypatch):
    takes = HandsFreeRunner.take_one

    def opened(runner, percent, by=""):
        bench.world.room_lux = 150.0 if len(runner.rows) == 40 else bench.world.room_lux
        return takes(runner, percent, by)

    monkeypatch.setattr(HandsFreeRunner, "take_one", opened)
    started = begin(ready, person, now, budget=150)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.PAUSED
    assert "the room has become lighter" in started.reason
    bench.world.room_lux = 0.0
    services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert not started.run.restored
    assert any("Somebody was called" in note for note in started.run.notes)
    assert [row.index for row in started.readings.order_by("id")] == list(range(len(started.patches)))
    assert truth(bench, bench.displays[3], "q2", ready.target)[0] < 0.7
    assert sheet(ready) == really(bench)


def test_a_reading_newer_than_the_list_that_a_page_has_breaks_no_page(ready, person, now, bench):
    from fenvik.web.stops.progress import progress_of

    started = begin(ready, person, now, steps=["white"], budget=70)
    engine.run(started.pk)
    started.refresh_from_db()
    started.patches = started.patches[:5]
    told = progress_of(started, set(range(9)), now)
    assert (told.done, told.count) == (5, 5)


def test_minutes_end_the_adjusting_and_the_proof_is_read_all_the_same(ready, person, now, bench):
    started = begin(ready, person, now, minutes=1, budget=120)
    type(started).objects.filter(pk=started.pk).update(started_at=now - dt.timedelta(seconds=70))
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    job = started.run
    assert any("minutes" in note for note in job.notes)
    assert job.over_at == started.run.left_from, "what was found is read whole, and what is left comes next"
    assert len(set(started.readings.values_list("r", "g", "b"))) == 9
    assert 19 <= started.readings.count() <= 21, "found with white once more, left, what stands out again, and nothing between"
    assert sheet(ready) == really(bench)


def test_a_pairing_that_is_withdrawn_pauses_and_goes_on_after_pairing_again(ready, person, now, bench):
    started = begin(ready, person, now)
    display = bench.displays[3]
    display.fault.start("unpaired", after=20)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.PAUSED
    assert "pair it again" in started.reason
    display.fault.start("")
    ready.display.refresh_from_db()
    show_code(ready.display)
    answer_code(display=ready.display, code="4711", actor=person, now=now)
    services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert truth(bench, display, "q2", ready.target)[0] < 0.7


def test_what_cannot_be_run_is_said_before_anything_is_touched(ready, person, now, bench, signed_in):
    before = really(bench)
    address = reverse("act", args=(ready.pk, "hands-free"))
    for sent, words in (
        ({"steps": ["grey"], "budget": "12"}, "readings: what is found"),
        ({"budget": "120"}, "at least one"),
        ({"steps": ["dance"], "budget": "120"}, "at least one"),
    ):
        signed_in.post(address, {"stop": "adjust", "work": "hands-free", **sent})
        page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
        assert words in page
    ready.signal, ready.target_name = "dynamic", "bt2020-pq"
    ready.save()
    with pytest.raises(handsfree.HandsFreeError, match="follows its own mapping"):
        begin(ready, person, now)
    assert really(bench) == before


def test_of_another_firm_nobody_starts_or_takes_back_a_run(ready, person, stranger, now, client):
    started = begin(ready, person, now)
    engine.run(started.pk)
    client.force_login(stranger, backend="django.contrib.auth.backends.ModelBackend")
    assert client.post(reverse("act", args=(ready.pk, "hands-free")), {"steps": ["grey"]}).status_code == 404
    assert client.post(reverse("act", args=(ready.pk, "put-back")), {"pass": started.pk}).status_code == 404
