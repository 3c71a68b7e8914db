"""What counts as proof, what a handover keeps of it, and that it shows nothing else."""

import datetime as dt
import re

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from fenvik.core.analysis.report import Sheet, report
from fenvik.formats.readings import read as parse
from fenvik.web.corrections.models import Correction
from fenvik.web.handovers.freezing import frozen_analysis
from fenvik.web.handovers.services import NothingToHandOverError, make_handover
from fenvik.web.handovers.views import measured_on
from fenvik.web.kit.templatetags.fenvik import significant
from fenvik.web.passes import amending, engine, services
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.planning.services import TargetClashError, keep_target
from fenvik.web.results import assemble, files
from fenvik.web.results.assemble import analysis_of
from fenvik.web.results.proof import NotAProofError, name_proof, proof_of, remove_file
from fenvik.web.results.special import special_of
from fenvik.web.results.summary import figures, summarise
from tests.web.reading import choose, run, run_and_stop

pytestmark = pytest.mark.django_db(transaction=True)
FOUND, LEFT = PassPurpose.FOUND, PassPurpose.LEFT


def page(client, tuning, stop, view="balance"):
    return client.get(reverse("stop", args=(tuning.pk, stop)) + f"?view={view}&table=1").content.decode()


def act(client, tuning, name, **data):
    return client.post(reverse("act", args=(tuning.pk, name)), {"stop": "left", **data}, follow=True)


@pytest.fixture
def measured(ready, person, now):
    choose(ready, "grey-11", "colours-100")
    run(ready, person, now, purpose=FOUND)
    run(ready, person, now, purpose=LEFT)
    return ready


def test_a_pass_that_was_stopped_never_takes_the_place_of_a_complete_one(measured, person, now, signed_in):
    whole = proof_of(measured, LEFT)
    verdict = re.search(r'class="headline">([^<]+)', page(signed_in, measured, "left")).group(1)
    later = run_and_stop(measured, person, now + dt.timedelta(minutes=5), 3, purpose=LEFT)
    assert proof_of(measured, LEFT).pk == whole.pk
    body = page(signed_in, measured, "left")
    assert verdict in body
    assert "stopped after 3 of 17" in body
    kept = make_handover(visit_id=measured.visit_id, actor=person, now=now).content["tunings"][0]
    assert (kept["left"]["pass"], kept["left"]["lacks"]) == (whole.pk, "")
    # A person may want it all the same: then it says so wherever it is shown.
    act(signed_in, measured, "name-proof", **{"pass": later.pk})
    assert proof_of(measured, LEFT).pk == later.pk
    assert "3 of 17 patches were read" in page(signed_in, measured, "left")
    handed = make_handover(visit_id=measured.visit_id, actor=person, now=now)
    assert "3 of 17 patches were read" in signed_in.get(reverse("handover", args=(handed.token,))).content.decode()
    act(signed_in, measured, "name-proof", **{"pass": later.pk, "named": "0"})
    assert proof_of(measured, LEFT).pk == whole.pk


def test_what_was_not_read_as_left_has_no_figure_of_as_found(measured, person, now, signed_in):
    later = run_and_stop(measured, person, now + dt.timedelta(minutes=5), 3, purpose=LEFT)
    name_proof(pass_id=later.pk, actor=person, now=now)
    for view, cells in (("balance", "<td>–</td>"), ("errors", "<td>not read</td>"), ("tone", "<td>not read</td>")):
        table = page(signed_in, measured, "left", view).split('<table class="figures">')[1]
        row = next(part for part in table.split("<tr>") if ">50 %<" in part)
        assert cells in row, view


def test_without_a_complete_pass_there_is_no_proof_and_the_rest_can_be_read(ready, person, now, signed_in):
    choose(ready, "grey-11")
    begun = run_and_stop(ready, person, now, 4, purpose=FOUND)
    assert proof_of(ready, FOUND) is None
    body = page(signed_in, ready, "found")
    assert "Stopped after 4 of 11 patches" in body
    assert "Read the rest" in body
    with pytest.raises(NothingToHandOverError):
        make_handover(visit_id=ready.visit_id, actor=person, now=now)
    amending.read_rest(pass_id=begun.pk, actor=person)
    engine.run(begun.pk)
    assert proof_of(ready, FOUND).pk == begun.pk
    assert Reading.objects.filter(pass_of=begun).count() == 11


def test_a_stop_while_it_waits_makes_its_summary(ready, person, now):
    choose(ready, "grey-11")
    begun = run(ready, person, now)
    Pass.objects.filter(pk=begun.pk).update(state="paused", finished_at=None, summary=None, complete=False)
    services.ask_to_stop(pass_id=begun.pk, actor=person, now=now)
    begun.refresh_from_db()
    assert begun.summary["grey_mean"] is not None
    assert begun.complete


def test_a_file_is_no_proof_until_it_is_chosen_and_can_be_put_away(measured, person, now, signed_in):
    whole = proof_of(measured, LEFT)
    data, _, _ = files.write(whole, "csv")
    given = SimpleUploadedFile("other.csv", data)
    body = act(signed_in, measured, "readings-file", file=given, view="lists").content.decode()
    assert "only if you let them" in body
    taken = Pass.objects.get(file_name="other.csv")
    assert proof_of(measured, LEFT).pk == whole.pk
    act(signed_in, measured, "name-proof", **{"pass": taken.pk})
    assert proof_of(measured, LEFT).pk == taken.pk
    act(signed_in, measured, "remove-file", **{"pass": taken.pk})
    assert proof_of(measured, LEFT).pk == whole.pk
    with pytest.raises(NotAProofError, match="never removed"):
        remove_file(pass_id=whole.pk, actor=person, now=now)


def _free(tuning):
    free = {"primaries": [[0.64, 0.33], [0.29, 0.6], [0.15, 0.07]], "white": [0.3067, 0.318], "curve": "power", "gamma": 2.3}
    tuning.target_name, tuning.free = "free", free


def _rolled(tuning):
    tuning.signal, tuning.target_name, tuning.roll_off = "hdr10", "p3d65-pq", "bt2390"
    tuning.mastered, tuning.mastered_least = 4000.0, 0.001


def _hlg(tuning):
    tuning.signal, tuning.target_name = "hlg", "bt2020-hlg"


def _corrected(tuning):
    made = Correction.objects.create(
        firm=tuning.visit.firm, meter=tuning.meter, display=tuning.display, maker="Orrefall", model="55",
        technology=tuning.display.technology, method="four-colour", matrix=[[1.02, 0, 0], [0, 1.01, 0], [0, 0, 0.97]],
        meter_name="m", meter_serial="s", reference_name="The reference", reference_serial="R1", made_at=dt.datetime.now(dt.UTC),
        rows=[
            {"label": n, "rgb": rgb, "meter": xyz, "reference": [1.02 * xyz[0], 1.01 * xyz[1], 0.97 * xyz[2]]}
            for n, rgb, xyz in (
                ("100 %", [235] * 3, [95.0, 100.0, 109.0]), ("red", [235, 16, 16], [41.0, 21.0, 2.0]),
                ("green", [16, 235, 16], [36.0, 72.0, 12.0]), ("blue", [16, 16, 235], [18.0, 7.0, 95.0]),
            )
        ],
    )  # fmt: skip
    tuning.correction, tuning.correction_choice = made, "chosen"


KINDS = {
    "ladders": (
        lambda tuning: None,
        ("grey-21", "colours-100", "windows", "checkerboard", "near-black", "saturations"),
        "itself a reference",
    ),
    "corrected": (_corrected, ("grey-11", "colours-100"), "corrected by The reference"),
    "free": (_free, ("grey-11", "colours-100"), "itself a reference"),
    "rolled off": (_rolled, ("grey-21", "colours-100", "windows", "near-black"), "itself a reference"),
    "hlg": (_hlg, ("grey-21", "colours-100"), "itself a reference"),
}


@pytest.mark.parametrize("kind", list(KINDS))
def test_the_frozen_copy_holds_what_as_left_shows(ready, person, now, signed_in, bench, kind):
    """For every kind of tuning: the same figures, errors and what is said beside the picture, to the last digit."""
    change, lists, through = KINDS[kind]
    change(ready)
    ready.save()
    if kind == "hlg":
        next(d for d in bench.displays if d.serial == "SW65-0112").choose_mode("p2")
    choose(ready, *lists, drift_every=8)
    for purpose in (FOUND, LEFT):
        run(ready, person, now, purpose=purpose)
    handed = make_handover(visit_id=ready.visit_id, actor=person, now=now)
    handed.refresh_from_db()
    ready.refresh_from_db()
    kept = handed.content["tunings"][0]
    for which in (FOUND, LEFT):
        shown = proof_of(ready, which)
        there, frozen = analysis_of(shown, ready), frozen_analysis(kept, which)
        assert figures(frozen) == figures(there)
        for name in ("target_xyz", "gamma", "balance", "balance_std"):
            np.testing.assert_array_equal(getattr(frozen, name), getattr(there, name))
        np.testing.assert_array_equal(frozen.whole.value, there.whole.value)
        np.testing.assert_array_equal(frozen.whole.std, there.whole.std)
        special = special_of(shown, there, luminance=None)
        if special.loading is not None:
            assert kept[which]["special"]["loading"]["luminance"] == special.loading.luminance.tolist()
            assert kept[which]["special"]["drift"] == special.drift
        if special.board is not None:
            assert tuple(kept[which]["special"]["board"]) == special.board
    body = signed_in.get(reverse("handover", args=(handed.token,))).content.decode()
    assert through in body
    assert kept["verdict"]["sentence"] in page(signed_in, ready, "left")


def test_the_day_on_a_handover_is_that_of_the_readings(measured, person, now):
    read = dt.datetime(2026, 3, 4, 22, 30, tzinfo=dt.UTC)
    Reading.objects.filter(pass_of__purpose=LEFT).update(at=read)
    measured.visit.on = dt.date(2026, 2, 1)
    measured.visit.save()
    content = make_handover(visit_id=measured.visit_id, actor=person, now=now).content
    assert len(measured_on(content)) == 1
    assert abs((measured_on(content)[0] - read.date()).days) <= 1
    assert measured_on(content)[0].month == 3


def test_a_black_that_was_too_dark_stays_a_bound_everywhere(measured, person, now, signed_in):
    Reading.objects.filter(label="0 %").update(x=0.0, y=0.0, z=0.0, too_dark=True)
    assemble._kept.clear()  # no reading is ever changed in earnest
    floor = measured.meter.facts["floor"]
    for stop in ("found", "left"):
        summarise(proof_of(measured, stop).pk)
    for stop in ("found", "left"):
        bound = significant(analysis_of(proof_of(measured, stop), measured).white[1] / floor)
        body = page(signed_in, measured, stop, "light") + page(signed_in, measured, stop)
        assert re.search(rf"(&gt;|>) ?{bound}", body), stop
    handed = make_handover(visit_id=measured.visit_id, actor=person, now=now)
    body = signed_in.get(reverse("handover", args=(handed.token,))).content.decode()
    assert f"&gt; {bound}" in body
    usual = analysis_of(proof_of(measured, "found"), measured).unread
    assert 0.0 < usual < floor
    assert f"with the usual {significant(usual)} cd/m²" in page(signed_in, measured, "found", "tone")
    assert f"&lt; {significant(floor)}" in body
    both = signed_in.get(reverse("compare", args=(measured.pk,))).content.decode()
    row = next(part for part in both.split("<tr>") if ">contrast<" in part)
    assert row.count("> ") + row.count("&gt; ") >= 2
    assert "cannot be told apart" in row


def test_a_target_that_is_changed_holds_for_what_was_read_before(measured, person, signed_in):
    cleaned = {
        "name": "n", "picture_mode": "Film", "purpose": "night", "signal": "sdr", "target_name": "bt709-2.2", "luminance": None,
        "tolerance": 1.0,
    }  # fmt: skip
    before = proof_of(measured, LEFT).summary["grey_whole_mean"]
    keep_target(tuning_id=measured.pk, actor=person, cleaned=cleaned)
    measured.refresh_from_db()
    now_there = proof_of(measured, LEFT)
    assert now_there.summary["grey_whole_mean"] != before
    assert now_there.summary == figures(analysis_of(now_there, measured))
    with pytest.raises(TargetClashError, match="made with PQ"):
        keep_target(tuning_id=measured.pk, actor=person, cleaned=cleaned | {"signal": "hdr10"})


@pytest.mark.parametrize("kind", ["csv", "cgats", "json"])
def test_what_is_written_is_read_back_and_analysed_to_the_same_figures(ready, person, now, kind, tmp_path):
    """Ladders, boards and whites for drift among them: by the command line, and as a pass that is taken up."""
    choose(ready, "grey-21", "colours-100", "windows", "checkerboard", "near-black", drift_every=8)
    done = run(ready, person, now, purpose=LEFT)
    Reading.objects.filter(pass_of=done, label="white field").update(x=0.0, y=0.0, z=0.0, too_dark=True)
    there = analysis_of(proof_of(ready, LEFT), ready)
    data, _, _ = files.write(done, kind)
    taken = files.take_up(tuning_id=ready.pk, actor=person, data=data, purpose="check", name=f"f.{kind}", now=now)
    back = analysis_of(Pass.objects.get(pk=taken.pk), ready)
    for name in ("grey_mean", "grey_whole_mean", "colour_mean", "white", "black", "contrast", "gamma"):
        assert figures(back)[name] == pytest.approx(figures(there)[name], rel=1e-6), name
    assert [r.too_dark for r in taken.readings.filter(label="white field")] == [True]
    assert taken.readings.filter(part="window").count() == 9
    if kind == "json":
        return
    read = parse(data)
    told = report(Sheet(read.labels, read.codes, read.signal, read.xyz, read.window, read.parts), ready.target)
    assert told["greyscale"]["mean_de2000"] == pytest.approx(figures(there)["grey_whole_mean"], rel=1e-6)
    assert told["colours"]["mean_de2000"] == pytest.approx(figures(there)["colour_mean"], rel=1e-6)
    assert told["contrast"] == pytest.approx(figures(there)["contrast"], rel=1e-6)
