"""Dynamic metadata on the stand-ins' OLED: what its mapping believes of the panel, modes compared, a shift of its own."""

import json

import numpy as np
import pytest
from django.urls import reverse

from bench.awaited import result_of
from fenvik.core.analysis.ability import ability_of
from fenvik.core.analysis.panel import PanelError, panel_of
from fenvik.core.colour.curves import pq_inverse
from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.colour.space import BT2020, D65_XY, P3D65, rgb_to_xyz_matrix, xyz_to_xy
from fenvik.standins.rpc import Refusal
from fenvik.standins.world import Picture, Signal
from fenvik.web.groundwork import panel, survey
from fenvik.web.groundwork.panel import panel_read
from fenvik.web.groundwork.survey import lines_of
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.visits.models import Tuning
from fenvik.web.whites import shifting
from fenvik.web.whites.shifting import modes_of
from tests.web.adjustable import adjustable

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def hurried(monkeypatch):
    monkeypatch.setattr(panel, "HELD_EVERY_S", 0.0)
    for module in (shifting, survey):
        monkeypatch.setattr(module, "SETTLES_S", 0.0)  # stand-ins change at once


@pytest.fixture
def dynamic(person, bench, now):
    bench.world.signal = Signal("dynamic", "bt2020", 10, "limited", 60.0)
    tuning = adjustable(person, bench, now, index=1, mode="Cinema dynamic")
    Tuning.objects.filter(pk=tuning.pk).update(signal="dynamic", target_name="p3d65-pq", luminance=None, bits=8)
    return Tuning.objects.get(pk=tuning.pk)


def act(client, tuning, name, **data):
    answer = client.post(reverse("act", args=(tuning.pk, name)), {"stop": "groundwork", "view": "modes", **data}, follow=True)
    newest = Pass.objects.filter(tuning=tuning, finished_at=None).first()
    if newest is not None:
        engine.run(newest.pk)
    return answer


def primaries(bench, mode):
    """P3's primaries at 100 cd/m² of white as a mode shows them, x y by true light."""
    optics = bench.displays[1].optics
    to_2020 = np.linalg.inv(rgb_to_xyz_matrix(BT2020, D65_XY)) @ rgb_to_xyz_matrix(P3D65, D65_XY)
    made = []
    for light in np.eye(3):
        codes = tuple(int(c) for c in np.round(64 + 876 * pq_inverse(100.0 * np.clip(to_2020 @ light, 0, None))))
        bench.world.picture = Picture(codes, 10.0, (64, 64, 64))
        made.append(xyz_to_xy(spectrum_to_xyz(optics.radiance(mode, (0.5, 0.5)))))
    return np.array(made)


def test_the_panel_is_read_sent_and_its_colours_come_nearer(dynamic, bench, signed_in):
    page = act(signed_in, dynamic, "panel-send").content.decode()
    assert "has not been read yet" in page
    before, known = primaries(bench, "p7"), primaries(bench, "p4")  # the mode for HDR10 knows its panel
    act(signed_in, dynamic, "panel-read")
    facts = panel_read(dynamic).facts
    native = bench.displays[1].optics.native
    for name, column in zip(("red", "green", "blue"), native.T, strict=True):
        # What the mapping believed before leaks into the first reading: full drive is not quite one light alone.
        assert getattr(facts, name) == pytest.approx(xyz_to_xy(column), abs=0.025)
    page = signed_in.get(reverse("stop", args=(dynamic.pk, "groundwork")) + "?view=modes").content.decode()
    assert f"{facts.red[0]:.4f}" in page
    assert "Send it to the display" in page
    act(signed_in, dynamic, "panel-send")
    assert bench.displays[1].optics.installed.of("p7").panel.peak == pytest.approx(facts.peak, abs=0.01)
    act(signed_in, dynamic, "panel-read")
    act(signed_in, dynamic, "panel-send")
    facts = panel_read(dynamic).facts
    after = primaries(bench, "p7")
    assert np.hypot(*(before - known).T).max() > 0.01
    assert np.hypot(*(after - known).T).max() < 0.0035
    told = json.loads(signed_in.post(reverse("act", args=(dynamic.pk, "panel-file"))).content)
    assert told["format"] == "panel-facts"
    assert told["red"] == [round(v, 5) for v in facts.red]
    act(signed_in, dynamic, "panel-send", away="1")
    assert bench.displays[1].optics.installed.of("p7").panel is None


def test_modes_for_dynamic_metadata_are_compared_and_a_shift_of_one_is_read(dynamic, bench, signed_in):
    act(signed_in, dynamic, "survey", what="modes")
    lines = lines_of(Pass.objects.get(purpose=PassPurpose.SURVEY))
    assert [line.at["label"] for line in lines] == ["Cinema dynamic", "Bright room dynamic"]
    faithful, lifted = (line.standing for line in lines)
    assert lifted.greys > faithful.greys + 1.0, "the one that lifts follows the signal less"
    act(signed_in, dynamic, "white-shifts")
    _, other = modes_of(Pass.objects.select_related("tuning").get(purpose=PassPurpose.SHIFT))
    assert other.shift.is_told
    assert bench.displays[1].mode == "p7"


def test_a_frame_s_own_metadata_decides_what_is_rolled_off(bench):
    source, oled = bench.sources[0], bench.displays[1]
    result_of(source.signal({"format": "dynamic", "colorimetry": "bt2020", "bits": 10, "range": "limited", "frame_rate": 60}))
    oled.wanted_mode = "p7"
    seen = {}
    for name, most in (("dim", 0.7), ("bright", 1.0)):
        result_of(source.patch({"rgb": [660, 660, 660], "window": 10, "frame": {"min": 0, "average": 0.2, "max": most}}))
        seen[name] = float(spectrum_to_xyz(oled.optics.radiance("p7", (0.5, 0.5)))[1])
    assert seen["dim"] > 1.01 * seen["bright"], "a frame with brighter highlights gives up some of the middle"
    for wrong in ({"min": 0.5, "average": 0.2, "max": 1}, {"min": 0}, {"min": 0, "average": 0.5, "max": 2}, 7):
        with pytest.raises(Refusal):
            result_of(source.patch({"rgb": [600, 600, 600], "window": 10, "frame": wrong}))
    with pytest.raises(Refusal):
        oled.optics.installed.of("p7").put("panel", {"red": [0.6, 0.3]}, oled.optics.build.installs)


def test_readings_that_are_no_panel_s_are_said():
    with pytest.raises(PanelError, match="hardly differ"):
        panel_of(np.tile([95.0, 100.0, 108.0], (5, 1)), 0.01)
    with pytest.raises(PanelError, match="give light"):
        panel_of(np.zeros((5, 3)), 0.01)
    facts = panel_of([[95, 100, 108], [41, 21, 2], [36, 72, 12], [18, 7, 95], [0, 0, 0]], 0.003)
    assert facts.black_is_bound
    assert facts.as_link()["black"] == 0.003


def test_what_an_hdr_display_can_do_is_read_and_said(person, bench, now, signed_in):
    """By true light: the peak of each window, from where it rolls off, what it covers; and a window that the display bears."""
    bench.world.signal = Signal("hdr10", "bt2020", 10, "limited", 60.0)
    tuning = adjustable(person, bench, now, index=1, mode="Cinema HDR")
    Tuning.objects.filter(pk=tuning.pk).update(signal="hdr10", target_name="bt2020-pq", luminance=None, window=50.0, bits=8)
    tuning.refresh_from_db()
    act(signed_in, tuning, "panel-read")
    able = panel_read(tuning).ability
    optics = bench.displays[1].optics
    for area, light in able.peaks:
        bench.world.picture = Picture((940, 940, 940), area, (64, 64, 64))
        assert light == pytest.approx(spectrum_to_xyz(optics.radiance("p4", (0.5, 0.5)))[1], rel=0.02)
    assert able.full < 0.7 * able.peak
    assert able.window <= 10.0
    assert able.roll.follows_to == pytest.approx(0.6 * able.peak, rel=0.2)
    assert 0.9 < able.covers[0] <= 1.0
    assert able.covers[1] < able.covers[0]
    assert [area for area, _ in able.same] == [2.0, 10.0, 40.0, 100.0]
    assert able.bends is None, "a grey of 100 cd/m² stays what it is on a display without such mapping"
    page = signed_in.get(reverse("stop", args=(tuning.pk, "groundwork")) + "?view=modes").content.decode()
    assert "What this display can do" in page
    assert "rolls off from there" in page
    act(signed_in, tuning, "panel-window")
    tuning.refresh_from_db()
    assert tuning.window == able.window


def test_a_peak_that_does_not_last_is_said():
    held = [(0, 880), (15, 700), (30, 450)]
    able = ability_of([(1, 900), (10, 880), (100, 300)], held, [], np.eye(3) + 0.2, 0.0, black_is_bound=True)
    assert able.falls_by == pytest.approx(1 - 450 / 880)
    assert any("loses 49 %" in words for words in able.says)
    assert able.window == 10
    assert able.bends is None
    bent = ability_of([(1, 900)], [], [], np.eye(3) + 0.2, 0.0, same=[(2, 100), (10, 99), (100, 80)])
    assert any("gives 80 to 100 cd/m²" in words for words in bent.says)
    assert ability_of([(1, 900), (10, 700)], [], [], np.eye(3) + 0.2, 0.0).window == 1
    with pytest.raises(ValueError, match="No window"):
        ability_of([], [], [], np.eye(3), 0.0)


def test_the_first_pass_of_an_hdr_tuning_shows_what_was_meant_in_the_bits_that_are_sent(dynamic, signed_in):
    """A tuning begins with eight bits and gets ten with its first pass: codes that were made before are made anew."""
    answer = signed_in.post(reverse("act", args=(dynamic.pk, "lights-read")), {"stop": "adjust", "work": "light"}, follow=True)
    assert answer.status_code == 200
    pass_ = Pass.objects.get(tuning=dynamic)
    assert pass_.bits == 10
    assert [row["rgb"][0] for row in pass_.patches] == [940, 64]
