"""The chart kit: well-formed pictures whose marks say what they are and stand where the figures put them."""

import re
import xml.etree.ElementTree as ET

import pytest

from fenvik.charts import ability, balance, colourmap, error, levers, svg, tone, whites
from fenvik.charts.labels import Box, place
from fenvik.web.results.parts import named_on_map

SVG = "{http://www.w3.org/2000/svg}"


def parsed(text):
    return ET.fromstring(text)


def level(percent, deviation, *, found=None, std=(0.1, 0.1, 0.1), error_=0.5):
    return balance.Level(percent, deviation, std, error_, found, 1.0)


def x_of(mark):
    shape = mark.find(f"{SVG}circle") if mark.find(f"{SVG}circle") is not None else None
    return float(shape.get("cx"))


@pytest.mark.parametrize(
    ("value", "text"), [(1.0, "1"), (1.005, "1"), (0.126, "0.13"), (-0.001, "0"), (1234.5, "1234.5"), (-2.5, "-2.5")]
)
def test_numbers_are_short_and_have_a_point(value, text):
    assert svg.n(value) == text


@pytest.mark.parametrize(("value", "text"), [(1.26, "+1.3"), (-1.26, "−1.3"), (0.04, "0.0"), (-0.04, "0.0")])
def test_signs_are_true_minuses_and_nothing_has_none(value, text):
    assert svg.signed(value) == text


def test_what_a_person_typed_cannot_become_part_of_the_picture():
    rung = error.Rung('<script>"&', "#808080", 1.0, 0.8, 1.2)
    drawn = error.draw([rung], title='"><script>')
    assert "<script>" not in drawn
    assert parsed(drawn).tag == f"{SVG}svg"


def test_bright_levels_stand_at_the_top_and_too_much_to_the_right():
    root = parsed(balance.draw([level(20, (0, 0, 0)), level(80, (-2, 3, 0))], title="b"))
    labels = {t.text: float(t.get("y")) for t in root.iter(f"{SVG}text")}
    assert labels["80"] < labels["20"]
    greens = {m.get("aria-label"): x_of(m) for m in root.iter(f"{SVG}g") if "green" in (m.get("aria-label") or "")}
    middle = greens[next(k for k in greens if k.startswith("20 %"))]
    assert greens[next(k for k in greens if k.startswith("80 %"))] > middle


def test_as_found_is_hollow_and_as_left_solid():
    drawn = balance.draw([level(80, (0.5, 0, -0.5), found=(3, 0, -4))], title="b")
    assert drawn.count('class="found ') == 3
    assert drawn.count('class="left ') == 3
    assert "80 %, blue as found: −4.0 %" in drawn


def test_wide_uncertainty_is_a_whisker_and_narrow_is_none():
    narrow = balance.draw([level(80, (3, 0, 0), std=(0.01,) * 3)], title="b")
    wide = balance.draw([level(80, (3, 0, 0), std=(1.0,) * 3)], title="b")
    assert "whisker" not in narrow
    assert wide.count("whisker") == 3


def test_a_deviation_beyond_the_scale_stays_inside_the_picture():
    root = parsed(balance.draw([level(80, (-90, 10, 90))], title="b"))
    for circle in root.iter(f"{SVG}circle"):
        assert 0 <= float(circle.get("cx")) <= balance.WIDTH


def test_the_step_scale_is_in_whole_steps():
    scale = balance.StepScale("B-Gain", 2, 0.8)
    drawn = balance.draw([level(80, (0, 0, 5))], title="b", current=80, steps=scale)
    assert "B-Gain, steps" in drawn
    ticks = re.findall(r'class="tick blue"[^>]*>([+−]\d+)<', drawn)
    assert ticks
    assert 'class="here"' in drawn


def test_one_patch_of_each_colour_has_its_name_on_the_map():
    labels = ["red 75 %", "red", "pale red", "green 75 %", "P3 red", "P3 red, pale", "blue 50 % light", "brown skin"]
    assert named_on_map(labels) == {"red", "green 75 %", "P3 red", "blue 50 % light"}


def test_every_rung_has_its_figure_and_its_interval():
    rungs = [error.Rung("red", "#ff0000", 1.4, 1.1, 1.7, 3.2), error.Rung("40 %", "#666666", 0.3, 0.0, 0.6)]
    drawn = error.draw(rungs, title="e")
    assert "CIEDE2000, with luminance" in drawn
    assert "cannot be seen" in drawn
    beyond = error.draw([*rungs, error.Rung("blue", "#0000ff", 84.0, 80.0, 88.0, 90.0, apart=True)], title="e")
    assert '>100<' not in beyond, "what no control can mend does not flatten the rest"
    assert "84.0" in beyond
    assert 'class="beyond"' in beyond
    far = error.draw([error.Rung("red", "#ff0000", 84.0)], title="e", unit="ΔE ITP")
    assert "ΔE ITP, with luminance" in far
    assert [w for w in ("cannot", "trained", "anyone") if w in far] == ["anyone"], "no label without its room"
    assert "red: 1.4, between 1.1 and 1.7" in drawn
    assert "red as found: 3.2" in drawn
    root = parsed(drawn)
    figures = [t.text for t in root.iter(f"{SVG}text") if "figure" in (t.get("class") or "")]
    assert figures == ["1.4", "0.3"]


def test_the_tone_chart_says_level_deviation_and_gamma():
    point = tone.Point(50, -3.2, 0.4, 2.0, 5.0, 0.18, 0.19, 2.31)
    drawn = tone.draw([point], title="t")
    assert "50 %: −3.2 % ± 0.8, gamma 2.31" in drawn
    assert "50 % as found: +5.0 %" in drawn
    parsed(drawn)


def test_levers_tilt_the_way_the_light_is_off():
    root = parsed(levers.draw((5.0, 0.0, -5.0), (0.1, 0.1, 0.1), title="l"))
    arms = {}
    for path in root.iter(f"{SVG}path"):
        if "arm" in (path.get("class") or ""):
            (_, y1), (_, y2) = (tuple(map(float, p.split())) for p in path.get("d")[1:].split("L"))
            arms[path.get("class").split()[1]] = y1 - y2
    assert arms["red"] > 5  # the right end is up
    assert arms["green"] == 0
    assert arms["blue"] < -5


def test_labels_do_not_lie_on_each_other_or_on_marks():
    anchors = [(100 + 3 * i, 100 + 2 * i, f"label {i}") for i in range(6)]
    marks = [Box(x - 6, y - 6, 12, 12) for x, y, _ in anchors]
    boxes = [spot.box for spot in place(anchors, marks, Box(0, 0, 700, 600))]
    for i, first in enumerate(boxes):
        assert first.x >= 0
        assert all(first.over(other) == 0 for other in boxes[i + 1 :])


def test_labels_stay_inside_the_field():
    (spot,) = place([(695, 300, "a long label")], [], Box(0, 0, 700, 600))
    assert spot.box.x + spot.box.width <= 700


def test_the_map_draws_a_comet_from_the_ring_and_names_it():
    comet = colourmap.Comet("red", "#cc2222", (0.45, 0.523), (0.46, 0.51), (0.43, 0.53), 2.4)
    white = colourmap.WhitePoint("80 %", 1.0, -0.5, 1.1, False)
    drawn = colourmap.draw([comet], [white], [(0.45, 0.52), (0.12, 0.56), (0.17, 0.16)], (0.1978, 0.4683), title="m")
    root = parsed(drawn)
    assert 'class="tail left"' in drawn
    assert 'class="tail found"' in drawn
    assert "red: u′ 0.4600, v′ 0.5100" in drawn
    assert any("".join(t.itertext()) == "red2.4" for t in root.iter(f"{SVG}text"))
    assert "80 %: error 1.1" in drawn


def test_the_colour_map_is_drawn_in_u_v_or_in_x_y():
    red = {colourmap.UV: (0.4507, 0.5229), colourmap.XY: (0.64, 0.33)}
    for plane, at in red.items():
        comet = colourmap.Comet("red", "#aa3322", at, at, None, 0.4)
        drawn = colourmap.draw([comet], [], [at, (0.3, 0.6), (0.15, 0.06)], (0.3127, 0.329), title="t", plane=plane)
        assert f"{plane.across} {at[0]:.4f}, {plane.up} {at[1]:.4f}" in drawn
        x, y = plane.at(*at)
        assert 0 < x < colourmap.WIDTH
        assert 0 < y < colourmap.HEIGHT


def test_rows_in_the_dark_do_not_flatten_the_rest():
    dark = [tone.Point(p, -45.0, 3.0, 40.0, None, 0.001, 0.002) for p in (1, 4)]
    rest = [tone.Point(p, -3.0, 0.3, 3.0, None, p / 100, p / 100) for p in (20, 50, 100)]
    drawn = tone.draw([*dark, *rest], title="t")
    assert ">−6<" in drawn  # the scale of what is seen
    assert "to −45 % at 1 %" in drawn
    assert drawn.count("beyond") == 2
    rows = [balance.Level(p, (-30.0, 0.0, 4.0) if p < 9 else (-2.0, 0.0, 2.0), None, 1.0, None, 3.0) for p in (1, 4, 50, 100)]
    drawn = balance.draw(rows, title="b")
    assert ">−30<" not in drawn
    assert "1 %, red: −30" in drawn  # the figure itself is told


def test_whites_lie_about_the_wanted_one_and_say_how_far():
    marks = [
        whites.White("warm", (0.2038, 0.4723), "candidate"), whites.White("Vivid", (0.19, 0.46), "mode", 0.0, (0.2, 0.47)),
        whites.White("near", (0.1979, 0.4684), "try"),
    ]  # fmt: skip
    drawn = whites.draw(marks, (0.1978, 0.4683), title="t")
    assert "warm: +0.0060, +0.0040 from the wanted" in drawn
    assert 'class="moved mode"' in drawn
    assert ">near<" not in drawn, "tries are marks without labels"
    assert "daylight" in drawn
    far = whites.draw([whites.White("far", (0.25, 0.52), "now")], (0.1978, 0.4683), title="t")
    x = float(far.split('class="white now" cx="')[1].split('"')[0])
    assert whites.LEFT < x < whites.RIGHT


def test_light_by_area_and_time_has_a_mark_for_each_and_labels_with_room():
    drawn = ability.draw([(1, 744), (10, 743), (75, 507), (100, 440)], [(0, 743), (30, 500)], 10, title="t")
    assert "10 % of the area: 743 cd/m²" in drawn
    assert "after 30 s: 500 cd/m²" in drawn
    assert ">100<" in drawn
    assert ">75<" not in drawn, "its label would lie on that of 100"
    assert drawn.count("white wanted") == 1
