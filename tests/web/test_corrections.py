"""Corrections from the first reading to a pass that is looked at through another one."""

from dataclasses import replace
from datetime import timedelta

import numpy as np
import pytest
from django.urls import reverse

from fenvik.web.corrections import choosing, exchange, making
from fenvik.web.corrections.judging import fit_of, misfit
from fenvik.web.corrections.models import Comparison, Correction
from fenvik.web.devices.models import Device
from fenvik.web.passes import engine, refusals, services
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from fenvik.web.results.assemble import analysis_of

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def field(equipped, bench):
    """The tuning with the colorimeter as its meter, everything that moves the light off, and the display warm."""
    display = bench.displays[0]
    for item in display.menu.items.values():
        if (item.role or "").startswith("process."):
            display.set_control("m2", item.id, item.off)
    display.optics.on_since = -86_400.0
    equipped.meter = Device.objects.get(serial="PC1-2209")
    equipped.source = Device.objects.get(serial="BP1-1180")
    equipped.bits = 10
    equipped.save()
    return equipped


@pytest.fixture
def reference(field):
    return Device.objects.get(serial="TS2-0031")


def make(tuning, person, reference, now, *, at_once=True, method="", average=4):
    started = making.start(
        tuning_id=tuning.pk, actor=person, reference_id=reference.pk, at_once=at_once, method=method, average=average,
        now=now,
    )
    engine.run(started.pk)
    started.refresh_from_db()
    return started


def keep(started, person, now, method="four-colour"):
    return making.keep(pass_id=started.pk, actor=person, method=method, note="slow", now=now)


def test_both_meters_at_once_give_a_correction_that_is_in_force_from_then_on(field, reference, person, now):
    started = make(field, person, reference, now)
    assert started.state == PassState.DONE
    assert started.comparison.proposed == "four-colour"
    assert started.comparison.additivity < 0.02
    by = [step["by"] for step in started.patches]
    assert by == ["reference", "meter"] * 6
    draft = making.draft_of(started)
    assert draft.method == "four-colour"
    assert draft.is_complete
    made = keep(started, person, now)
    field.refresh_from_db()
    assert field.correction == made
    assert (made.effort, made.average, made.picture_mode, made.technology) == ("slow", 4, "Film", "lcd")
    assert made.meter_serial == "PC1-2209"
    assert keep(started, person, now).pk == made.pk, "keeping twice gives the same"
    later = services.start_pass(tuning_id=field.pk, actor=person, now=now)
    assert later.correction == made


def test_one_after_the_other_waits_for_the_change_over(field, reference, person, now):
    started = make(field, person, reference, now, at_once=False)
    assert started.state == PassState.PAUSED
    assert "Take Tarn S2 away and put Pebble C1 in its place" in started.reason
    assert started.readings.count() == 6
    engine.run(started.pk)  # whoever starts it without a person's word gets no further
    assert started.readings.count() == 6
    services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert started.readings.count() == 12
    assert keep(started, person, now).rows[0]["label"] == "white"


def test_what_an_ended_worker_could_not_keep_is_kept_by_the_next(field, reference, person, now):
    started = make(field, person, reference, now, at_once=False)
    started.readings.filter(label="white again").delete()  # it ended between the reading of black and what follows from it
    Comparison.objects.update(additivity=None, proposed="")
    Pass.objects.update(state=PassState.QUEUED, reason="")
    engine.run(started.pk)
    started.comparison.refresh_from_db()
    assert started.comparison.additivity < 0.02
    assert started.comparison.proposed == "four-colour"
    assert started.readings.count() == 6


def test_a_pass_whose_procedure_would_now_read_otherwise_says_so(field, reference, person, now):
    started = make(field, person, reference, now, at_once=False)
    Comparison.objects.update(at_once=True)  # as a renewed Fenvik might want it
    services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.PAUSED
    assert "Step 2 of this run was to read 100 0 0 % with the reference and would now be" in started.reason
    assert "to read 100 100 100 % with the meter:" in started.reason
    assert started.readings.count() == 6


def test_a_display_whose_white_is_more_than_the_sum_is_told_and_its_white_is_held(
    field, reference, person, bench, now
):
    oled = bench.displays[1]
    bench.world.front = oled.serial
    oled.set_control("p2", "eco-2", False)
    started = make(field, person, reference, now)
    bench.world.front = bench.displays[0].serial
    assert started.comparison.additivity > 0.1
    assert started.comparison.not_the_sum
    assert len(started.patches) == 12
    draft = making.draft_of(started)
    assert draft.method == "four-colour"
    bench.world.front = oled.serial
    fitted = making.start(
        tuning_id=field.pk, actor=person, reference_id=reference.pk, at_once=True, method="weighted", average=4, now=now
    )
    engine.run(fitted.pk)
    bench.world.front = bench.displays[0].serial
    assert making.draft_of(fitted).made.crossed is not None, "who wants a fit over mixtures may have it"
    assert np.abs(draft.made.dxy).max() < 0.0015


def test_readings_are_stored_as_they_were_and_an_old_pass_is_looked_at_through_another_correction(
    field, reference, person, now
):
    before = services.start_pass(tuning_id=field.pk, actor=person, now=now)
    engine.run(before.pk)
    before.refresh_from_db()
    raw = list(before.readings.order_by("id").values_list("x", "y", "z"))
    was = before.summary["cct"]
    made = keep(make(field, person, reference, now), person, now)
    choosing.look_through(pass_id=before.pk, actor=person, wanted=str(made.pk))
    before.refresh_from_db()
    assert list(before.readings.order_by("id").values_list("x", "y", "z")) == raw
    assert before.summary["cct"] != was
    seen = analysis_of(before, field)
    np.testing.assert_allclose(seen.readings.xyz, np.array(raw) @ np.array(made.matrix).T)
    choosing.look_through(pass_id=before.pk, actor=person, wanted="none")
    before.refresh_from_db()
    assert before.summary["cct"] == pytest.approx(was)
    with pytest.raises(choosing.NoSuchCorrectionError):
        choosing.look_through(pass_id=before.pk, actor=person, wanted="99999")


def test_corrected_readings_are_nearer_to_the_reference_and_say_how_sure_they_are(field, reference, person, bench, now):
    made = keep(make(field, person, reference, now), person, now)
    field.refresh_from_db()
    by_field = services.start_pass(tuning_id=field.pk, actor=person, now=now)
    engine.run(by_field.pk)
    field.meter = reference
    field.save()
    by_reference = services.start_pass(tuning_id=field.pk, actor=person, now=now)
    assert by_reference.correction is None, "a correction of another meter is never in force"
    engine.run(by_reference.pk)
    through, plain = (
        analysis_of(Pass.objects.get(pk=by_field.pk), field),
        analysis_of(Pass.objects.get(pk=by_reference.pk), field),
    )
    raw = through.readings.xyz @ np.linalg.inv(np.array(made.matrix)).T
    xy = lambda xyz: xyz[:, :2] / xyz.sum(axis=1, keepdims=True)  # noqa: E731
    lit = plain.readings.xyz[:, 1] > 3
    off = np.hypot(*(xy(through.readings.xyz) - xy(plain.readings.xyz))[lit].T)
    was = np.hypot(*(xy(raw) - xy(plain.readings.xyz))[lit].T)
    assert off.mean() < 0.6 * was.mean()
    assert through.readings.systematic == made.systematic
    without = replace(through.readings, systematic=None)
    assert (np.linalg.eigvalsh(through.readings.covariance - without.covariance) >= -1e-9).all()


def test_where_a_correction_fits_less_it_says_so(field, reference, person, now):
    made = keep(make(field, person, reference, now), person, now)
    field.refresh_from_db()
    made.warnings = []  # that energy saving was on is another test's business
    assert fit_of(made, field, now).warnings == ()
    field.picture_mode = "Shop"
    assert "another picture mode, Film" in fit_of(made, field, now).warnings[0]
    field.picture_mode, field.signal = "Film", "hdr10"
    assert "another signal, SDR" in fit_of(made, field, now).warnings[0]
    field.signal = "sdr"
    made.display_id = None
    assert "another sample of this model" in fit_of(made, field, now).warnings[0]
    made.model = "56"
    fit = fit_of(made, field, now)
    assert "another model" in fit.warnings[0]
    assert fit.rank == 3
    assert "It is old" in fit_of(made, field, now + timedelta(days=400)).warnings[1]
    made.technology = "wrgb-oled"
    assert fit_of(made, field, now) is None
    assert "another technology" in misfit(made, field, now)[0]
    field.meter = reference
    assert "another meter" in misfit(made, field, now)[0]


def test_the_one_that_fits_best_is_in_force_and_a_choice_is_kept(field, reference, person, now):
    first = keep(make(field, person, reference, now), person, now)
    second = keep(make(field, person, reference, now), person, now + timedelta(minutes=5))
    field.refresh_from_db()
    assert field.correction == second, "of two that fit alike the newest"
    choosing.choose(tuning_id=field.pk, actor=person, wanted=str(first.pk), now=now)
    started = services.start_pass(tuning_id=field.pk, actor=person, now=now, purpose=PassPurpose.CHECK)
    assert started.correction == first
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    choosing.choose(tuning_id=field.pk, actor=person, wanted="none", now=now)
    field.refresh_from_db()
    assert field.correction is None
    choosing.choose(tuning_id=field.pk, actor=person, wanted="auto", now=now)
    making.withdraw(correction_id=second.pk, actor=person, now=now)
    field.refresh_from_db()
    assert field.correction == first


def test_energy_saving_that_is_known_to_be_on_is_warned_of(field, reference, person, bench, now):
    from fenvik.web.corrections.making import moving_controls

    assert any("Energy saving is on" in words for words in moving_controls(field)), "the sheet as found says so"


def test_white_that_something_dims_makes_no_correction(field, reference, person, bench, signed_in, now, monkeypatch):
    optics, shown = bench.displays[0].optics, bench.displays[0].optics.radiance
    monkeypatch.setattr(optics, "radiance", lambda *a: shown(*a) * (0.89 if min(bench.world.picture.rgb) > 700 else 1.0))
    dimmed = make(field, person, reference, now)
    draft, said = making.draft_of(dimmed), "% less than its parts together, so something dims it."
    assert (draft.made, said in draft.problem) == (None, True)
    with pytest.raises(making.NotReadError, match="something dims it"):
        keep(dimmed, person, now)
    page = signed_in.get(reverse("stop", args=(field.pk, "instruments")) + "?view=correction").content.decode()
    assert said in page
    assert "Begin again" in page
    assert "Keep it all the same" not in page, "energy saving is known to be on"
    monkeypatch.setattr(making, "moving_controls", lambda tuning: ())
    page = signed_in.get(reverse("stop", args=(field.pk, "instruments")) + "?view=correction").content.decode()
    assert "Keep it all the same" in page
    chosen = {"pass": dimmed.pk, "method": "four-colour", "all-the-same": "1"}
    signed_in.post(reverse("act", args=(field.pk, "keep-correction")), chosen)
    field.refresh_from_db()
    assert field.correction.from_pass == dimmed
    assert any("both meters saw the same light of each" in words for words in field.correction.warnings)


def test_white_that_is_dimmed_before_one_meter_alone_makes_no_correction_at_all(field, reference, person, bench, now, monkeypatch):
    slow = bench.meters[1]
    seen = slow._in_view
    monkeypatch.setattr(slow, "_in_view", lambda display: seen(display) * (0.85 if min(bench.world.picture.rgb) > 700 else 1.0))
    monkeypatch.setattr(making, "moving_controls", lambda tuning: ())
    started = make(field, person, reference, now)
    assert (making.draft_of(started).made, making.draft_of(started).all_the_same) == (None, None)
    with pytest.raises(making.NotReadError, match="something dims it"):
        making.keep(pass_id=started.pk, actor=person, method="four-colour", note="", now=now, all_the_same=True)


def test_at_full_drive_an_hdr_display_ends_and_that_is_nothing_against_a_correction(field, reference, person, bench, now):
    field.signal, field.target_name, field.mode_id = "hdr10", "bt2020-pq", "m3"
    field.save()
    made = making.draft_of(make(field, person, reference, now))
    assert made.less > 0.15
    assert (made.problem, made.made is not None) == ("", True)


def test_stray_light_is_warned_of_and_kept_with_the_correction(field, reference, person, bench, now):
    bench.world.room_lux = 400.0
    try:
        started = make(field, person, reference, now, method="four-colour")
    finally:
        bench.world.room_lux = 0.0
    made = keep(started, person, now)
    assert any("stray light" in words for words in made.warnings)
    field.refresh_from_db()
    assert any("stray light" in words for words in misfit(field.correction, field, now))


def test_what_cannot_be_kept_is_refused_and_nothing_is_lost(field, reference, person, now):
    with pytest.raises(making.SameMeterError):
        making.start(
            tuning_id=field.pk, actor=person, reference_id=field.meter_id, at_once=True, method="", average=4, now=now
        )
    started = making.start(
        tuning_id=field.pk, actor=person, reference_id=reference.pk, at_once=True, method="", average=4, now=now
    )
    with pytest.raises(making.NotReadError):
        keep(started, person, now)
    with pytest.raises(refusals.PassOpenError):
        services.start_pass(tuning_id=field.pk, actor=person, now=now)
    engine.run(started.pk)
    with pytest.raises(making.NotReadError, match="mixtures"):
        keep(started, person, now, "weighted")
    assert keep(started, person, now, "primaries").method == "primaries"
    assert keep(started, person, now).method == "four-colour"
    assert Correction.objects.filter(withdrawn_at__isnull=True).count() == 1


def test_a_meter_that_is_the_reference_of_another_pass_is_busy(field, reference, person, now, stranger):
    making.start(
        tuning_id=field.pk, actor=person, reference_id=reference.pk, at_once=True, method="", average=4, now=now
    )
    other = type(field).objects.get(pk=field.pk)
    other.pk = other.aim_id = other.measuring_id = None
    other.name, other.meter, other.source = "Another", reference, Device.objects.get(serial="RR8-0422")
    other.bits = 8
    other.save()
    with pytest.raises(refusals.PassOpenError, match="Snug, night"):
        services.start_pass(tuning_id=other.pk, actor=person, now=now)


def test_a_correction_goes_out_and_comes_in_as_a_file(field, reference, person, signed_in, now):
    made = keep(make(field, person, reference, now), person, now)
    sent = signed_in.get(reverse("correction-file", args=(made.pk,)))
    assert sent["Content-Disposition"].endswith('.txt"')
    data = sent.content
    back = exchange.from_file(data=data, meter=field.meter, actor=person, now=now)
    np.testing.assert_allclose(back.matrix, made.matrix, rtol=1e-6)
    assert (back.reference_name, back.technology, back.picture_mode) == (made.reference_name, "lcd", "Film")
    assert back.made_at == made.made_at.replace(microsecond=0)
    other = Device.objects.get(serial="MM-0954")
    elsewhere = exchange.from_file(data=data, meter=other, actor=person, now=now)
    assert "another sample than this meter" in elsewhere.warnings[0]


def test_a_correction_is_made_of_two_files_of_readings(field, person, now):
    rows = [("white", 235, 235, 235, 95, 100, 109), ("red", 235, 16, 16, 41, 21, 2), ("green", 16, 235, 16, 36, 72, 12)]
    rows.append(("blue", 16, 16, 235, 18, 7, 95))
    head = "label,r,g,b,bits,range,X,Y,Z\n"
    reference = head + "".join(f"{n},{r},{g},{b},8,limited,{x},{y},{z}\n" for n, r, g, b, x, y, z in rows)
    meter = head + "".join(
        f"{n},{r},{g},{b},8,limited,{x * 1.02},{y * 0.99},{z * 1.01}\n" for n, r, g, b, x, y, z in rows
    )
    made = exchange.from_readings(
        reference=reference.encode(), field=meter.encode(), method="four-colour", meter=field.meter, actor=person, now=now,
        facts={"maker": "Orrefall", "model": "55", "technology": "lcd"},
    )  # fmt: skip
    np.testing.assert_allclose(np.diag(made.matrix), [1 / 1.02, 1 / 0.99, 1 / 1.01], rtol=1e-6)
    assert made.rows[1] | {"meter": None} == {
        "label": "red", "rgb": [235, 16, 16], "reference": [41.0, 21.0, 2.0], "meter": None,
    }  # fmt: skip
    fit = fit_of(made, field, now)
    assert fit.rank == 2


@pytest.mark.parametrize("name", ["corrections", "correction-import", "instruments"])
def test_the_pages_of_corrections_open(name, signed_in, field, reference, person, now):
    keep(make(field, person, reference, now), person, now)
    answer = signed_in.get(reverse(name))
    assert answer.status_code == 200


def test_the_page_of_a_correction_shows_every_patch_and_another_firm_sees_nothing(
    field, reference, person, stranger, client, now
):
    made = keep(make(field, person, reference, now), person, now)
    client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
    page = client.get(reverse("correction", args=(made.pk,))).content.decode()
    assert all(label in page for label in ("white again", "Tarn S2 TS2-0031", "Its file (CGATS)"))
    client.force_login(stranger, backend="django.contrib.auth.backends.ModelBackend")
    for name in ("correction", "correction-file"):
        assert client.get(reverse(name, args=(made.pk,))).status_code == 404
    assert client.post(reverse("correction-withdraw", args=(made.pk,))).status_code == 404
    assert "Pebble" not in client.get(reverse("corrections")).content.decode()


def test_a_file_that_is_none_is_refused_with_its_line(signed_in, field):
    from django.core.files.uploadedfile import SimpleUploadedFile

    answer = signed_in.post(
        reverse("correction-import"),
        {"meter": field.meter_id, "file": SimpleUploadedFile("c.txt", b"nothing of the kind")},
    )
    assert answer.status_code == 422
    assert "line 1" in answer.content.decode()
    assert Correction.objects.count() == 0


def test_withdrawn_it_is_no_longer_offered_and_passes_keep_it(field, reference, person, signed_in, now):
    made = keep(make(field, person, reference, now), person, now)
    field.refresh_from_db()
    kept = services.start_pass(tuning_id=field.pk, actor=person, now=now)
    signed_in.post(reverse("correction-withdraw", args=(made.pk,)))
    field.refresh_from_db()
    kept.refresh_from_db()
    assert field.correction is None
    assert kept.correction == made
