"""Proposals of targets, and checks that adapt to technology, signal and menu."""

import numpy as np
import pytest

from fenvik.core.colour import curves, science
from fenvik.core.colour.target import TARGETS
from fenvik.core.groundwork import CHECKS, checks_for, extra_processing, signal_clash
from fenvik.core.proposals import PURPOSES, SIGNALS, Room, propose


@pytest.mark.parametrize("purpose", PURPOSES)
@pytest.mark.parametrize("signal", SIGNALS)
def test_every_proposal_has_a_target_and_says_why(purpose, signal):
    made = propose(purpose, signal, room=Room(150, 3))
    assert made.target in TARGETS
    assert made.why
    assert all(sentence.endswith(".") for sentence in made.why)
    assert (made.luminance is None) == (signal != "sdr")


@pytest.mark.parametrize(
    ("purpose", "room", "technology", "target", "luminance"),
    [
        ("night", Room(None, 1), "lcd", "bt709-bt1886", 100),
        ("film", Room(None, 20), "lcd", "bt709-bt1886", 120),
        ("day", Room(300, None), "lcd", "bt709-2.2", 200),
        ("day", Room(20, None), "oled", "bt709-bt1886", 200),
        ("film", Room(None, 0.2), "projector", "bt709-bt1886", 50),
        ("day", Room(120, None), "projector", "bt709-2.2", 90),
        ("game", Room(None, None), "lcd", "bt709-bt1886", 160),
    ],
)
def test_the_room_decides(purpose, room, technology, target, luminance):
    made = propose(purpose, "sdr", technology=technology, room=room)
    assert (made.target, made.luminance) == (target, luminance)


def test_a_guess_is_called_one():
    assert "nobody has measured" in " ".join(propose("day", "sdr").why)
    assert "300 lux" in " ".join(propose("day", "sdr", room=Room(300, None)).why)


def ids(technology, signal="sdr", roles=()):
    return [check.id for check in checks_for(technology, signal, roles)]


def test_checks_adapt_to_technology_signal_and_menu():
    assert ids("lcd") == ["mode", "signal", "inputs"]
    every = [check.role for check in CHECKS if check.role]
    assert "dimming" in ids("lcd", roles=every)
    assert "dimming" not in ids("wrgb-oled", roles=every)
    assert "tone-mapping" not in ids("lcd", roles=every)
    assert "tone-mapping" in ids("lcd", "hdr10", every)
    lens = {"lens", "geometry", "focus", "convergence", "refocus", "light-source", "screen"}
    assert lens <= set(ids("projector"))
    assert not lens & set(ids("lcd", roles=every))
    assert "iris" in ids("projector", roles=["process.iris"])


def test_processing_without_a_check_of_its_own_is_not_overlooked():
    assert extra_processing(["process.sparkle", "process.noise", "light"]) == ["process.sparkle"]


@pytest.mark.parametrize(
    ("tuning", "playing", "clash"),
    [
        ("sdr", "sdr", False),
        ("sdr", "hdr10", True),
        ("hdr10", "sdr", True),
        ("sdr", None, False),
        ("dynamic", "hdr10", True),
    ],
)
def test_a_signal_that_does_not_fit_is_said(tuning, playing, clash):
    assert bool(signal_clash(tuning, playing)) == clash


def test_pq_hlg_and_srgb_agree_with_their_standards():
    v = np.linspace(0, 1, 101)
    np.testing.assert_allclose(curves.pq(v), science.reference_pq(v), rtol=1e-6, atol=1e-6)
    np.testing.assert_allclose(curves.pq_inverse(curves.pq(v)), v, atol=1e-6)  # 10,000 cd/m² is 1; nothing is 0
    assert curves.pq(0.5081) == pytest.approx(100, rel=2e-3)  # BT.2408, table 1: 50.8 % is 100 cd/m²
    assert curves.hlg_gamma(1000) == 1.2
    assert curves.hlg(0.75, 1000, 0) == pytest.approx(203, rel=2e-3)  # BT.2408: HDR reference white
    assert curves.hlg(1.0, 600, 0) == pytest.approx(600, rel=1e-6)
    assert curves.hlg(0.0, 600, 0.05) == pytest.approx(0.05, rel=1e-6)  # the black lift
    assert curves.srgb(0.5, 100) == pytest.approx(21.404, abs=1e-3)


def test_hlg_greys_are_the_targets_own_whites():
    target = TARGETS["bt2020-hlg"]
    grey = target.xyz(np.array([[0.6, 0.6, 0.6]]), 800, 0.01)
    assert grey[0, 1] == pytest.approx(float(curves.hlg(0.6, 800, 0.01)), rel=1e-9)
