"""The report on readings, held against colour-science and against figures worked out by hand."""

import numpy as np
import pytest

from fenvik.core.analysis.report import ReportError, Sheet, coverage, report
from fenvik.core.colour.itp import delta_itp, ictcp
from fenvik.core.colour.space import BT709, BT2020, D65_XY, P3D65, rgb_to_xyz_matrix, xy_to_uv
from fenvik.core.colour.target import TARGETS
from fenvik.core.signal.decoding import decode, encode

M709 = rgb_to_xyz_matrix(BT709, D65_XY)


def sheet(codes, xyz, *, bits=8, range_="limited", window=None, labels=None):
    codes = np.asarray(codes)
    window = np.full(len(codes), np.nan) if window is None else np.asarray(window, dtype=float)
    return Sheet(
        labels or [None] * len(codes), codes, decode(codes, bits, range_), np.asarray(xyz, dtype=float), window
    )


def perfect(peak=100.0, gamma=2.4):
    """Readings of a display that is on target: greys, then the six full colours."""
    levels = [encode(p, 8, "limited") for p in range(0, 101, 10)]
    codes = np.array([[int(v)] * 3 for v in levels] + [[235, 16, 16], [16, 235, 16], [16, 16, 235], [235, 235, 16]])
    return sheet(codes, peak * np.clip(decode(codes, 8, "limited"), 0, 1) ** gamma @ M709.T)


def test_a_display_on_target_has_no_errors():
    told = report(perfect(), TARGETS["bt709-2.4"])
    assert told["greyscale"]["max_de2000"] == pytest.approx(0, abs=1e-9)
    assert told["colours"]["max_de2000"] == pytest.approx(0, abs=1e-9)
    assert told["greyscale"]["mean_gamma"] == pytest.approx(2.4)
    assert told["gamut"]["bt709"] == pytest.approx(1.0)
    assert told["white"]["cct"] == pytest.approx(6504, abs=3)
    assert told["contrast"] is None
    grey = told["readings"][5]
    np.testing.assert_allclose(grey["balance"], 100, rtol=1e-9)
    assert grey["luminance_error"] == pytest.approx(0, abs=1e-12)
    assert told["readings"][0]["gamma"] is None
    assert told["readings"][0]["balance"] is None


def test_bt1886_uses_the_measured_black_and_the_other_curves_none():
    codes = [[16] * 3, [126] * 3, [235] * 3]
    made = sheet(codes, np.array([[0.0950, 0.1, 0.1089], [20, 21, 22], [95.0, 100, 108.9]]))
    dark = report(made, TARGETS["bt709-bt1886"])
    assert dark["target"]["black"] == 0.1
    assert dark["readings"][0]["target_xyz"][1] == pytest.approx(0.1, rel=1e-9)
    # BT.1886, Annex 1, at V = 110/219 with 100 and 0.1 cd/m²
    root = (100 ** (1 / 2.4), 0.1 ** (1 / 2.4))
    a, b = (root[0] - root[1]) ** 2.4, root[1] / (root[0] - root[1])
    assert dark["readings"][1]["target_xyz"][1] == pytest.approx(a * (110 / 219 + b) ** 2.4, rel=1e-9)
    plain = report(made, TARGETS["bt709-2.4"])
    assert plain["target"]["black"] == 0.0
    assert plain["readings"][0]["target_xyz"][1] == 0.0
    assert dark["contrast"] == pytest.approx(1000)


def test_codes_above_white_are_extrapolated_in_sdr_and_below_black_are_black():
    made = sheet([[235] * 3, [254] * 3, [1] * 3], [[95, 100, 109], [110, 116, 126], [0, 0, 0]])
    rows = report(made, TARGETS["bt709-2.2"])["readings"]
    assert rows[1]["target_xyz"][1] == pytest.approx(100 * (238 / 219) ** 2.2)
    assert rows[2]["target_xyz"][1] == 0
    assert rows[1]["signal"][0] == pytest.approx(238 / 219)


def test_pq_is_clipped_at_the_measured_white_in_the_targets_own_primaries():
    codes = [[940] * 3, [509] * 3, [940, 64, 64]]
    made = sheet(codes, [[570, 600, 650], [95, 100, 109], [300, 150, 10]], bits=10)
    rows = report(made, TARGETS["bt2020-pq"])["readings"]
    assert rows[0]["target_xyz"][1] == pytest.approx(600)
    np.testing.assert_allclose(rows[2]["target_xyz"], 600 * rgb_to_xyz_matrix(BT2020, D65_XY)[:, 0], rtol=1e-9)
    inner = report(made, TARGETS["p3d65-pq"])["readings"]
    assert inner[1]["target_xyz"][1] == pytest.approx(rows[1]["target_xyz"][1], rel=1e-9)  # a grey is a grey
    # BT.2020's red at 10,000 cd/m² in P3 has no negative light left, and red is clipped at white's 600.
    linear = np.linalg.inv(rgb_to_xyz_matrix(P3D65, D65_XY)) @ rgb_to_xyz_matrix(BT2020, D65_XY) @ [10_000, 0, 0]
    np.testing.assert_allclose(
        inner[2]["target_xyz"], rgb_to_xyz_matrix(P3D65, D65_XY) @ np.clip(linear, 0, 600), rtol=1e-6
    )


def test_delta_itp_agrees_with_colour_science():
    colour = pytest.importorskip("colour")
    rng = np.random.default_rng(8)
    one = rng.uniform(0, 1, (40, 3)) * rng.uniform(0.1, 800, (40, 1)) @ M709.T
    other = one * rng.normal(1, 0.03, one.shape)
    theirs = [np.asarray(colour.XYZ_to_ICtCp(v, method="ITU-R BT.2100-2 PQ", L_p=10_000)) for v in (one, other)]
    np.testing.assert_allclose(ictcp(one), theirs[0], atol=2e-5)
    apart = theirs[1] - theirs[0]
    wanted = 720 * np.sqrt(apart[:, 0] ** 2 + (0.5 * apart[:, 1]) ** 2 + apart[:, 2] ** 2)
    np.testing.assert_allclose(delta_itp(one, other), wanted, atol=0.02)


def test_without_light_colour_is_compared_with_nothing():
    made = sheet([[235] * 3, [16] * 3, [126] * 3], [[95.05, 100, 108.9], [0.01, 0.01, 0.01], [0.2, 0, 0.1]])
    rows = report(made, TARGETS["bt709-2.2"])["readings"]
    assert rows[2]["balance"] is None
    assert np.isfinite(rows[1]["de2000_chroma"])
    assert np.isfinite(rows[2]["de2000_chroma"])


def test_the_most_frequent_window_counts_and_the_first_among_equals():
    codes = [[235] * 3, [235] * 3, [126] * 3, [235] * 3]
    xyz = [[60, 63, 69], [95, 100, 109], [20, 21, 23], [94, 99, 108]]
    told = report(sheet(codes, xyz, window=[100, 10, 10, 10]), TARGETS["bt709-2.2"])
    assert told["target"]["peak"] == pytest.approx(99.5)
    told = report(sheet(codes, xyz, window=[100, 10, 100, 10]), TARGETS["bt709-2.2"])
    assert told["target"]["peak"] == 63


@pytest.mark.parametrize(
    ("codes", "xyz", "words"),
    [
        ([[126] * 3], [[1, 1, 1]], "no 100 % white"),
        ([[235] * 3, [235] * 3], [[95, 100, 109], [100, 106, 115]], "more than 5 % apart"),
        ([[235] * 3], [[0, 0, 0]], "no light"),
    ],
)
def test_without_a_white_there_is_no_report(codes, xyz, words):
    with pytest.raises(ReportError, match=words):
        report(sheet(codes, xyz), TARGETS["bt709-2.2"])


def test_coverage_of_known_triangles():
    """u′v′ areas by hand: P3 covers BT.709 wholly; BT.709 covers 0.7345 of P3's area, being inside it but for a sliver."""
    corners = xy_to_uv(np.array([P3D65.red, P3D65.green, P3D65.blue]))
    assert coverage(corners, P3D65) == pytest.approx(1.0)
    assert coverage(corners, BT709) > 0.999

    def area(p):
        (a, b), (c, d), (e, f) = p
        return abs((c - a) * (f - b) - (e - a) * (d - b)) / 2

    inner = xy_to_uv(np.array([BT709.red, BT709.green, BT709.blue]))
    assert coverage(inner, P3D65) == pytest.approx(area(inner) / area(corners), abs=0.002)
    assert coverage(np.array([[0.1, 0.1]] * 3), BT709) == 0.0
