"""What a pass reads, in what order, and reading more of it; HDR; files in and out; two passes compared."""

import datetime as dt
import itertools
import json
import re

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from fenvik.core.colour.curves import pq_inverse
from fenvik.web.devices.models import Device
from fenvik.web.handovers.services import make_handover
from fenvik.web.passes import amending, engine, refusals, services
from fenvik.web.passes.models import Pass, PassPurpose, PassState, PatchList
from fenvik.web.passes.pace import note_pace
from fenvik.web.passes.sending import planned
from fenvik.web.results import compare, files, summary, words
from fenvik.web.results.assemble import analysis_of, undrifted
from fenvik.web.results.special import special_of
from fenvik.web.stops.measured.lists import seconds_of
from tests.web.reading import choose, run

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def impatient(settings):
    settings.LINK_SLACK_S = 0.6
    settings.DEVICE_PATIENCE_S = 1.5
    engine.stopping.clear()


def test_what_is_chosen_is_read_and_ladders_stay_out_of_the_picture(ready, person, now):
    choose(ready, "grey-11", "colours-100", "windows", "checkerboard", "near-black", drift_every=8)
    done = run(ready, person, now)
    assert done.state == PassState.DONE
    parts = [row["part"] for row in done.patches]
    assert parts.count("window") == 9
    assert parts.count("checkerboard") == 2
    assert parts.count("drift") >= 4
    analysis = analysis_of(done, ready)
    assert len(analysis.readings.labels) == parts.count("main") + parts.count("beside")
    assert int(analysis.graded.sum()) == 10, "levels near black change no average"
    special = special_of(done, analysis, luminance=None)
    assert list(special.loading.area) == [1, 2, 5, 10, 18, 25, 50, 75, 100]
    assert special.board[2] > 100
    assert special.drift < 0.01
    assert 0.6 < dict(special.gamut)["BT.709"] <= 1.0


def test_the_meter_is_carried_and_the_pass_waits_each_time(ready, person, now):
    choose(ready, "uniformity")
    started = services.start_pass(tuning_id=ready.pk, actor=person, now=now)
    for place in range(9):
        engine.run(started.pk)
        started.refresh_from_db()
        assert started.state == PassState.PAUSED
        assert started.reason.startswith("Put the meter at ")
        assert started.readings.count() == place
        services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert special_of(started, None, luminance=None).uniformity.share[4] == pytest.approx(1.0)


def test_white_left_alone_is_watched(ready, person, now, monkeypatch):
    from fenvik.core.signal import lists

    monkeypatch.setattr(lists, "STABILITY_S", 0.2)
    choose(ready, "stability", options={"minutes": 0.03})
    done = run(ready, person, now)
    rows = list(done.readings.order_by("id"))
    gaps = [(b.started_at - a.started_at).total_seconds() for a, b in itertools.pairwise(rows)]
    assert len(gaps) >= 2
    assert all(gap >= 0.19 for gap in gaps)
    minutes, percent, apart = special_of(done, None, luminance=None).wander
    assert 0 < minutes < 0.5
    assert percent < 2
    assert apart < 0.002


def test_one_patch_is_read_again_and_the_newest_counts(ready, person, now):
    done = run(ready, person, now)
    first = done.readings.get(index=3)
    amending.read_again(pass_id=done.pk, actor=person, index=3)
    engine.run(done.pk)
    done.refresh_from_db()
    assert done.state == PassState.DONE
    assert done.readings.count() == 18
    newest = done.readings.filter(index=3).latest("id")
    assert newest.pk != first.pk
    assert analysis_of(done, ready).readings.xyz[3, 1] == pytest.approx(newest.y)
    with pytest.raises(refusals.NothingToReadError):
        amending.read_again(pass_id=done.pk, actor=person, index=99)


def test_a_pass_is_extended_by_what_the_lists_have_beyond_it(ready, person, now):
    choose(ready, "grey-11")
    done = run(ready, person, now)
    choose(ready, "grey-11", "grey-21", "known")
    assert amending.extend(pass_id=done.pk, actor=person) == 10 + 12
    engine.run(done.pk)
    done.refresh_from_db()
    assert done.readings.count() == 33
    with pytest.raises(refusals.NothingToReadError, match="everything"):
        amending.extend(pass_id=done.pk, actor=person)


def test_a_patch_is_read_until_two_readings_agree(ready, person, now, bench):
    ready.settles = "agree"
    ready.save()
    choose(ready, "grey-11")
    calls = []
    meter = next(m for m in bench.meters if m.serial == "TS2-0031")
    whole = meter.read

    async def counted(params):
        calls.append(params)
        return await whole(params)

    meter.methods["read"] = counted
    try:
        done = run(ready, person, now)
    finally:
        meter.methods["read"] = whole
    assert done.readings.count() == 11
    assert len(calls) >= 22, "at least two readings a patch, of which one is stored"


def test_drift_between_whites_is_taken_out_and_can_be_left_in(ready, person, now, signed_in, bench):
    choose(ready, "grey-11", drift_every=3)
    done = run(ready, person, now)
    whites = [row for row in done.readings.order_by("id") if done.patches[row.index]["part"] == "drift"]
    last = whites[-1]
    type(last).objects.filter(pk=last.pk).update(x=last.x * 0.9, y=last.y * 0.9, z=last.z * 0.9)
    rows = [row for row in done.readings.order_by("index") if done.patches[row.index]["part"] == "main"]
    corrected = undrifted(done, rows).xyz[:, 1]
    raw = np.array([row.y for row in rows])
    assert corrected[-2] > raw[-2] * 1.01
    signed_in.post(reverse("act", args=(ready.pk, "drift")), {"pass": done.pk, "stop": "found"})
    done.refresh_from_db()
    np.testing.assert_allclose(undrifted(done, rows).xyz[:, 1], raw)


def test_an_hdr_tuning_is_measured_with_its_signal(ready, person, now, bench, signed_in):
    ready.signal, ready.target_name, ready.bits = "hdr10", "bt2020-pq", 8
    ready.mastered = 4000.0
    ready.save()
    choose(ready, "grey-21", "colours-100")
    done = run(ready, person, now)
    ready.refresh_from_db()
    assert ready.bits == 10, "eight bits would show steps"
    assert (bench.world.signal.format, bench.world.signal.colorimetry) == ("hdr10", "bt2020")
    assert done.mastering["max"] == 4000
    assert bench.displays[0].mode == "m3"
    analysis = analysis_of(done, ready)
    assert analysis.target.is_hdr
    assert 300 < analysis.white[1] < 700
    assert analysis.out_of_reach.sum() == done.summary["out_of_reach"] > 0
    above = analysis.beyond_end
    asked = 100 * analysis.readings.fraction[above, 0]
    assert round(asked.min()) == 5 * np.ceil(20 * float(pq_inverse(analysis.white[1])))
    assert (done.summary["beyond_end"], analysis.graded.sum()) == (len(asked), 20 - len(asked))
    assert done.summary["grey_mean"] == analysis.colour_only.value[analysis.graded].mean()
    assert f"From {asked.min():.0f} % on more is asked for than its peak" in words.balance(analysis)
    apart = (analysis.out_of_reach | above).sum()
    assert f"{apart} patches are beyond what this display gives" in words.errors(analysis)
    both = compare.compare(analysis, analysis, shared=True)
    assert f"of the {20 - len(asked)} greys" in both.on
    # What an earlier version had told of it is told anew.
    earlier = {k: v for k, v in done.summary.items() if k != "beyond_end"} | {"grey_mean": 9.0}
    Pass.objects.filter(pk=done.pk).update(summary=earlier)
    assert (summary.summarise_anew(), summary.summarise_anew()) == (1, 0)
    assert Pass.objects.get(pk=done.pk).summary == done.summary
    page = signed_in.get(reverse("stop", args=(ready.pk, "found"))).content.decode()
    assert f"{analysis.out_of_reach.sum()} beyond its reach" in page
    assert done.summary["hdr"]
    choose(ready, "grey-11")
    left = run(ready, person, now, purpose=PassPurpose.LEFT)
    handover = make_handover(visit_id=ready.visit_id, actor=person, now=now)
    table = signed_in.get(reverse("handover", args=(handover.token,))).content.decode()
    row = re.search(r"more than its peak, average error</th>\s*<td>([\d.]+)</td><td>([\d.]+)</td>", table)
    assert row, table
    assert row.groups() == tuple(f"{each.summary['beyond_end_mean']:.1f}" for each in (done, left))
    ready.source = Device.objects.get(serial="RR8-0422")
    ready.save()
    with pytest.raises(refusals.NotMeasurableError, match="does not send HDR10"):
        services.start_pass(tuning_id=ready.pk, actor=person, now=now)


def test_an_hlg_tuning_is_measured_from_the_cable_to_the_result(ready, person, now, bench, signed_in):
    oled = next(d for d in bench.displays if d.serial == "SW65-0112")
    oled.choose_mode("p2")
    ready.signal, ready.target_name = "hlg", "bt2020-hlg"
    ready.save()
    choose(ready, "grey-21", "colours-100")
    done = run(ready, person, now)
    assert done.state == PassState.DONE
    assert (bench.world.signal.format, oled.mode) == ("hlg", "p5")
    assert done.mastering is None
    analysis = analysis_of(done, ready)
    assert analysis.target.curve == "hlg"
    # The truth: the panel follows HLG with the system gamma of its peak, apart from a cast of two or three percent.
    level = analysis.readings.fraction[analysis.grey, 0]
    y = analysis.readings.xyz[analysis.grey, 1]
    gamma = 1.2 + 0.42 * np.log10(analysis.white[1] / 1000.0)
    half = y[np.argmin(np.abs(level - 0.5))] / analysis.white[1]
    assert half == pytest.approx((1.0 / 12.0) ** gamma, rel=0.12)
    page = signed_in.get(reverse("stop", args=(ready.pk, "found")) + "?view=errors").content.decode()
    assert "ITP" in page
    assert done.summary["hdr"]


def test_a_source_without_the_chart_says_so_before_anything_is_read(ready, person, now):
    choose(ready, "grey-11", "checkerboard")
    ready.source.facts = ready.source.facts | {"charts": []}
    ready.source.save()
    with pytest.raises(refusals.NotMeasurableError, match="draws no checkerboard"):
        services.start_pass(tuning_id=ready.pk, actor=person, now=now)
    choose(ready)
    with pytest.raises(refusals.NothingToReadError):
        services.start_pass(tuning_id=ready.pk, actor=person, now=now)
    assert Pass.objects.count() == 0


@pytest.mark.parametrize("kind", ["csv", "cgats", "json"])
def test_readings_go_out_and_come_back_as_a_pass_like_any_other(kind, ready, person, now, signed_in):
    choose(ready, "grey-11", "colours-100")
    done = run(ready, person, now)
    sent = signed_in.get(reverse("readings-file", args=(done.pk, kind)))
    assert sent.status_code == 200
    assert 'filename="' in sent["Content-Disposition"]
    given = SimpleUploadedFile(f"readings.{kind}", sent.content)
    answer = signed_in.post(reverse("act", args=(ready.pk, "readings-file")), {"file": given, "stop": "found"})
    assert answer.status_code == 302
    back = Pass.objects.latest("id")
    assert back.file_name == f"readings.{kind}"
    lit = done.readings.filter(too_dark=False)
    assert back.readings.count() == lit.count()
    assert back.summary["grey_mean"] == pytest.approx(done.summary["grey_mean"], rel=0.02)
    assert not Device.objects.filter(serial__contains=files.FILE_SERIAL, removed_at__isnull=True).exists()


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"{",
        b"{}",
        b'{"bits": 8, "range": "limited", "readings": [{"rgb": [1], "xyz": [1]}]}',
        b"a,b\n1,2",
        b"\xff\xfe",
    ],
)
def test_a_file_of_no_readings_is_refused_in_one_sentence(data, ready, signed_in):
    given = SimpleUploadedFile("x", data)
    answer = signed_in.post(
        reverse("act", args=(ready.pk, "readings-file")), {"file": given, "stop": "found", "view": "lists"}
    )
    assert answer.status_code in (422,)
    assert Pass.objects.count() == 0
    assert "line 1" in answer.content.decode() or "choose a file" in answer.content.decode()


def test_a_window_ladder_in_a_file_is_a_window_ladder(ready, person, now):
    choose(ready, "grey-11", "windows")
    done = run(ready, person, now)
    data, _, _ = files.write(done, "csv")
    back = files.take_up(tuning_id=ready.pk, actor=person, data=data, purpose="check", name="w.csv", now=now)
    assert back.window == 10
    assert list(special_of(back, None, luminance=None).loading.area) == [1, 2, 5, 10, 18, 25, 50, 75, 100]


def test_an_own_list_is_written_read_from_a_file_and_sent(ready, signed_in, person, now, client, stranger):
    page = signed_in.post(
        f"{reverse('patch-list-new')}?tuning={ready.pk}",
        {"name": "Mine", "patches": "deep red; 60; 10; 10\nhalf; 50; 50; 50"},
    )
    assert page["Location"].endswith("?view=lists")
    kept = PatchList.objects.get(name="Mine")
    ready.refresh_from_db()
    assert ready.lists["own"] == [kept.pk]
    for kind in ("csv", "cgats"):
        data = signed_in.get(reverse("patch-list-file", args=(kept.pk, kind))).content
        signed_in.post(
            reverse("act", args=(ready.pk, "lists")),
            {"file": SimpleUploadedFile("l", data), "name": f"Back {kind}", "stop": "found"},
        )
        assert PatchList.objects.get(name=f"Back {kind}").patches == kept.patches
    wrong = signed_in.post(
        reverse("patch-list", args=(kept.pk,)), {"name": "Mine", "patches": "a; 1; 2; 3\nb; 1; 2; x"}
    )
    assert wrong.status_code == 422
    assert "Line 2: x is no number" in wrong.content.decode()
    answer = signed_in.post(
        reverse("act", args=(ready.pk, "lists")),
        {"file": SimpleUploadedFile("l", b"nothing"), "name": "Once more", "stop": "found", "view": "lists"},
    )
    assert (answer.status_code, 'value="Once more"' in answer.content.decode()) == (422, True)
    ready.refresh_from_db()
    choose(ready, "grey-11", own=[kept.pk])
    done = run(ready, person, now)
    assert done.patches[-1]["label"] == "deep red"
    assert len(done.patches) == 12
    client.force_login(stranger, backend="django.contrib.auth.backends.ModelBackend")
    assert client.get(reverse("patch-list", args=(kept.pk,))).status_code == 404


def test_lists_are_kept_within_their_limits(ready, signed_in):
    address = reverse("act", args=(ready.pk, "lists"))
    signed_in.post(
        address,
        {
            "chosen": ["grey-own", "nonsense", "volume"], "steps": "5000", "edge": "1", "grid": "4", "drift_every": "x",
            "stop": "found",
        },
    )
    ready.refresh_from_db()
    assert ready.lists["chosen"] == ["grey-own", "volume"]
    assert ready.lists["options"] == {"steps": 101, "edge": 3, "grid": 5, "grey": 75, "minutes": 5}
    assert ready.lists["drift_every"] == 0


def test_the_pictures_and_their_files_open_for_every_view(ready, person, now, signed_in):
    choose(ready, "grey-11", "colours-100", "windows", "near-black")
    done = run(ready, person, now)
    for view in ("balance", "tone", "colours", "errors", "light", "wrong"):
        page = signed_in.get(f"{reverse('stop', args=(ready.pk, 'found'))}?view={view}")
        assert page.status_code == 200, view
        assert signed_in.get(reverse("picture-file", args=(ready.pk, "found", view, "csv"))).status_code == 200
        if view != "wrong":
            sent = signed_in.get(reverse("picture-file", args=(ready.pk, "found", view, "svg")))
            assert sent.content.startswith(b"<svg"), view
            assert b"var(--" not in sent.content
            assert b"<style>" in sent.content
    assert signed_in.get(reverse("picture-file", args=(ready.pk, "found", "nonsense", "svg"))).status_code == 404
    assert signed_in.get(f"{reverse('stop', args=(ready.pk, 'found'))}?view=lists").status_code == 200
    assert done.readings.count() > 0


@pytest.mark.parametrize("target", ["bt709-bt1886", "bt2020-pq", "bt2020-hlg"])
def test_what_will_be_read_is_drawn_before_anything_is(ready, person, now, signed_in, target):
    ready.target_name, ready.signal = target, {"bt709-bt1886": "sdr", "bt2020-pq": "hdr10", "bt2020-hlg": "hlg"}[target]
    ready.save()
    for stop, view in itertools.product(("found", "left", "adjust"), ("balance", "tone", "colours", "errors")):
        page = signed_in.get(f"{reverse('stop', args=(ready.pk, stop))}?view={view}").content.decode()
        drawn = page.split('class="picture awaited"')[1].split("</figure>")[0]
        assert "<svg" in drawn
        assert not re.search(r'class="[a-z ]*\b(left|found)\b', drawn), "nothing that was read"
        assert {"balance": ">70<", "colours": ">magenta<", "errors": ">70 %<"}.get(view, "<svg") in drawn
    choose(ready, "grey-11")
    if target == "bt709-bt1886":
        run(ready, person, now)
        assert "picture awaited" not in signed_in.get(reverse("stop", args=(ready.pk, "found"))).content.decode()


def test_two_passes_differ_only_if_their_intervals_say_so(ready, person, now, signed_in, bench):
    first = run(ready, person, now)
    again = run(ready, person, now, purpose=PassPurpose.CHECK)
    same = {f.name: f for f in compare.compare(analysis_of(first, ready), analysis_of(again, ready), shared=True).figures}
    assert same["grey, average without luminance"].verdict == "cannot be told apart"
    bench.displays[0].set_control("m2", "wb-gb", -18)
    try:
        third = run(ready, person, now, purpose=PassPurpose.LEFT)
    finally:
        bench.displays[0].set_control("m2", "wb-gb", 0)
    told = {f.name: f for f in compare.compare(analysis_of(first, ready), analysis_of(third, ready), shared=True).figures}
    assert told["white, kelvin"].verdict == "lower"
    assert told["grey, average without luminance"].verdict in ("better", "worse")
    page = signed_in.get(
        f"{reverse('compare', args=(ready.pk,))}?a={first.pk}&b={third.pk}&view=wrong"
    ).content.decode()
    assert "cannot be told apart" in page or "lower" in page
    assert compare.compare(None, None, shared=False).figures[0].verdict == "in neither of them"


BETWEEN_S = 0.05  # from a reading's end to the next one's start


def as_long_as_it_takes(done):
    """Date the readings of a pass as its meter says that they took: a test's machine is no measure. Return how long it all took."""
    at = done.started_at
    for row in done.readings.order_by("id"):
        begun = at + dt.timedelta(seconds=BETWEEN_S)
        at = begun + dt.timedelta(seconds=row.seconds)
        done.readings.filter(pk=row.pk).update(started_at=begun, at=at)
    note_pace(done.pk)
    return (at - done.started_at).total_seconds()


def test_time_is_told_within_a_fifth_once_the_meter_is_known(ready, person, now):
    before = run(ready, person, now)
    as_long_as_it_takes(before)
    loaded = type(ready).objects.select_related("meter", "source").get(pk=ready.pk)
    told = seconds_of(loaded, before.summary["white"], planned(loaded))
    assert told == pytest.approx(as_long_as_it_takes(run(ready, person, now)), rel=0.2)


def test_time_is_told_within_a_fifth_before_a_meter_s_first_pass(ready, person, now):
    """From what the meter says of itself: the light of white is what the tuning wants."""
    ready.meter = Device.objects.get(serial="PC1-2209")
    ready.luminance = 120.0
    ready.save()
    choose(ready, "grey-11")
    loaded = type(ready).objects.select_related("meter", "source").get(pk=ready.pk)
    told = seconds_of(loaded, 120.0, planned(loaded))
    assert told == pytest.approx(as_long_as_it_takes(run(ready, person, now)), rel=0.2)


def test_the_file_of_a_pass_says_what_it_was_looked_at_through(ready, person, now, signed_in):
    done = run(ready, person, now)
    told = json.loads(signed_in.get(reverse("readings-file", args=(done.pk, "json"))).content)
    assert told["correction"] is None
    assert told["readings"][0]["xyz"] == told["readings"][0]["uncorrected"]


def test_a_display_that_clips_is_not_called_stuck(ready, person, now, bench):
    bench.displays[0].set_control("m2", "pic-2", 100)
    bench.displays[0].set_control("m2", "wb-gr", 50)
    try:
        choose(ready, "grey-21")
        done = run(ready, person, now)
    finally:
        bench.displays[0].set_control("m2", "pic-2", 90)
        bench.displays[0].set_control("m2", "wb-gr", 0)
    assert done.state == PassState.DONE
    assert done.readings.count() == 21
