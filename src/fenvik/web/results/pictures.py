"""The pictures of a field: question, answer in a sentence, chart, and the table beside it."""

from collections.abc import Callable, Sequence

import numpy as np
from django.utils.safestring import mark_safe

from fenvik.charts import balance, colourmap, error, tone
from fenvik.core.analysis import greyscale
from fenvik.core.analysis.analysis import Analysis
from fenvik.core.colour import difference
from fenvik.core.colour.space import xy_to_xyz
from fenvik.core.measure import uncertainty
from fenvik.core.measure.uncertainty import TWO_SIDED_95
from fenvik.core.types import Floats
from fenvik.web.kit.templatetags.fenvik import places, signed, significant
from fenvik.web.results import words
from fenvik.web.results.awaited import shown_in
from fenvik.web.results.lights import light_picture, rolloff_picture, wrong_picture
from fenvik.web.results.parts import Pair, PatchKey, Picture, Table, by_patch, grey_rows, named_on_map, own_colour


def _three(values: Sequence[float]) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])


def balance_levels(pair: Pair) -> list[balance.Level]:
    """Return the rows of the balance chart."""
    found, left = grey_rows(pair.found), grey_rows(pair.left)
    base = pair.said
    if base is None:
        return []
    levels = sorted({*found, *left})
    band = greyscale.tolerance_percent(
        np.array(levels) / 100.0, base.target, float(base.white[1]), base.black_luminance, base.target.tolerance
    )
    rows = []
    for level, half in zip(levels, band, strict=True):
        now = left.get(level)
        was = found.get(level)
        # Where something is left, a level that was not read then has no figure of as found in its place.
        error_of, at = (pair.left, now) if pair.left is not None else (pair.found, was)
        rows.append(
            balance.Level(
                percent=level,
                deviation=None if now is None or pair.left is None else _three(pair.left.balance[now] - 100.0),
                std=None if now is None or pair.left is None else _three(pair.left.balance_std[now]),
                error=None if error_of is None or at is None else float(error_of.colour_only.value[at]),
                found=None if was is None or pair.found is None else _three(pair.found.balance[was] - 100.0),
                found_std=None if was is None or pair.found is None else _three(pair.found.balance_std[was]),
                tolerance=float(half),
                counts=at is None or error_of is None or not error_of.beyond_end[at],
            )
        )
    return rows


NOT_READ = ("not read", "–", "–", "–", "–")  # as left; as found never stands in its place


def _plus_minus(value: float, std: float) -> str:
    """Return a figure with its 95 % interval; a doubt that would print as nothing is not called nothing."""
    doubt = TWO_SIDED_95 * std
    return f"{signed(value)} ± {'0.1' if 0 < doubt < 0.1 else f'{doubt:.1f}'}" if doubt > 0 else signed(value)


def _balance(pair: Pair) -> Picture:
    levels = list(pair.levels) if pair.levels is not None else balance_levels(pair)
    rows = []
    for lv in sorted(levels, key=lambda v: -v.percent):
        is_found = lv.deviation is None and pair.left is None
        shown, std = (lv.found, lv.found_std) if is_found else (lv.deviation, lv.std)
        cells = tuple(_plus_minus(d, s) for d, s in zip(shown or (), std or (), strict=False)) or ("–",) * 3
        rows.append((f"{lv.percent:g} %", *cells, places(lv.error, 2)))
    return Picture(
        "balance",
        "Does grey stay grey?",
        pair.answers.get("balance") or words.balance(pair.said),
        mark_safe(
            balance.draw(
                levels, title="Balance of red, green and blue by level", current=pair.current, steps=pair.steps, whole=pair.whole
            )
        ),
        Table(("level", "red, %", "green, %", "blue, %", "error" if pair.whole else "error, colour only"), rows),
        not levels,
    )


def _tone(pair: Pair) -> Picture:
    if pair.said is not None and pair.said.target.curve == "pq":
        return rolloff_picture(pair)
    found, left, base = grey_rows(pair.found), grey_rows(pair.left), pair.said
    points, rows = [], []
    if base is not None:
        levels = sorted(level for level in {*found, *left})
        white, black = float(base.white[1]), base.black_luminance
        band = greyscale.visible_percent(np.array(levels) / 100.0, base.target, white, black)
        for level, visible in zip(levels, band, strict=True):
            now, was = left.get(level), found.get(level)
            shown, at = (pair.left, now) if now is not None else (pair.found, was)
            assert shown is not None
            assert at is not None
            lacks = pair.left is not None and now is None
            share = float(shown.readings.xyz[at, 1] / shown.white[1])
            gamma = float(shown.gamma[at])
            points.append(
                tone.Point(
                    percent=level,
                    deviation=None
                    if now is None or pair.left is None
                    else 100.0 * float(pair.left.luminance_error[now]),
                    std=100.0 * float(shown.luminance_std[at]),
                    visible=float(visible),
                    found=None if was is None or pair.found is None else 100.0 * float(pair.found.luminance_error[was]),
                    measured=None if lacks else share,
                    wanted=float(shown.target_xyz[at, 1] / shown.white[1]),
                    gamma=None if lacks or np.isnan(gamma) else gamma,
                )
            )
            rows.append(
                (f"{level:g} %", *NOT_READ[:5])
                if lacks
                else (
                    f"{level:g} %",
                    significant(float(shown.readings.xyz[at, 1])),
                    significant(float(shown.target_xyz[at, 1])),
                    signed(100.0 * float(shown.luminance_error[at])),
                    places(gamma, 2),
                    places(float(shown.target_gamma[at]), 2),
                )
            )
    return Picture(
        "tone",
        "Does brightness rise as it should?",
        words.tone(pair.said),
        mark_safe(tone.draw(points, title="Deviation of luminance by level")),
        Table(("level", "cd/m²", "wanted", "off, %", "gamma", "target's"), list(reversed(rows))),
        not points,
    )


def _all_patches(pair: Pair) -> list[PatchKey]:
    return list(dict.fromkeys([*by_patch(pair.found), *by_patch(pair.left)]))


def _colour_map(pair: Pair, plane: colourmap.Plane = colourmap.UV) -> Picture:
    found, left, base = by_patch(pair.found), by_patch(pair.left), pair.said
    if base is None:
        return Picture(
            "colours", "Do colours land where they should?", words.colours(None), mark_safe(""), Table((), []), True
        )
    comets, rows = [], []
    named = named_on_map(key.label for key in _all_patches(pair))
    for key in _all_patches(pair):
        label, now, was = key.label, left.get(key), found.get(key)
        shown, at = (pair.left, now) if now is not None else (pair.found, was)
        assert shown is not None
        assert at is not None
        if not shown.coloured[at]:
            continue
        lacks = pair.left is not None and now is None
        comets.append(
            colourmap.Comet(
                label=label,
                colour=own_colour(shown.readings.fraction[at]),
                target=_in(plane, shown.target_xyz[at]),
                measured=None if now is None or pair.left is None else _in(plane, pair.left.readings.xyz[now]),
                found=None if was is None or pair.found is None else _in(plane, pair.found.readings.xyz[was]),
                error=None if lacks else float(shown.whole.value[at]),
                named=label in named,
            )
        )
        rows.append(
            (label, *NOT_READ[:5], "–", "–")
            if lacks
            else (
                label,
                places(shown.xy[at, 0], 4),
                places(shown.xy[at, 1], 4),
                significant(float(shown.readings.xyz[at, 1])),
                significant(float(shown.target_xyz[at, 1])),
                signed(100.0 * float(shown.luminance_error[at])),
                places(shown.whole.value[at], 2),
                places(shown.colour_only.value[at], 2),
            )
        )
    primaries = base.target.primaries
    corners = [_in(plane, xy_to_xyz(np.array(xy))) for xy in (primaries.red, primaries.green, primaries.blue)]
    drawn = colourmap.draw(
        comets,
        [*_lens(pair.found, found=True), *_lens(pair.left, found=False)],
        corners,
        _in(plane, base.target.white),
        title=f"Colours in {plane.across}{plane.up}, and greys around the target white",
        plane=plane,
    )
    head = ("colour", "x", "y", "cd/m²", "wanted", "off, %", "error", "colour only")
    answer = pair.answers.get("colours") or words.colours(base)
    return Picture("colours", "Do colours land where they should?", answer, mark_safe(drawn), Table(head, rows))


def _in(plane: colourmap.Plane, xyz: Floats) -> tuple[float, float]:
    """Return where XYZ (3,) lie in the plane of a map."""
    a, b = plane.of_xyz(xyz)
    return float(a), float(b)


def _lens(analysis: Analysis | None, *, found: bool) -> list[colourmap.WhitePoint]:
    if analysis is None:
        return []
    points = []
    white = analysis.target.white * float(analysis.white[1])
    for level, i in grey_rows(analysis).items():
        if level < 20:
            continue
        lab = difference.xyz_to_lab(analysis.readings.xyz[i], white)
        size, error_here = float(np.hypot(lab[1], lab[2])), float(analysis.colour_only.value[i])
        unit = error_here / size if size > 1e-9 else 0.0
        points.append(
            colourmap.WhitePoint(f"{level:g} %", float(lab[1]) * unit, float(lab[2]) * unit, error_here, found)
        )
    return points


def _errors(pair: Pair) -> Picture:
    found, left = by_patch(pair.found), by_patch(pair.left)
    rungs, rows = [], []
    for key in _all_patches(pair):
        label, now, was = key.label, left.get(key), found.get(key)
        shown, at = (pair.left, now) if now is not None else (pair.found, was)
        assert shown is not None
        assert at is not None
        value, std = shown.whole.value[at], shown.whole.std[at]
        low, high = (float(v) for v in uncertainty.interval_95(value, std))
        rungs.append(
            error.Rung(
                label=label,
                colour=own_colour(shown.readings.fraction[at]),
                error=None if now is None else float(value),
                low=low,
                high=high,
                found=None if was is None or pair.found is None else float(pair.found.whole.value[was]),
                apart=bool(shown.out_of_reach[at] or shown.beyond_end[at]),
            )
        )
        lacks = pair.left is not None and now is None
        told = (places(value, 2), f"{low:.2f}–{high:.2f}", places(shown.colour_only.value[at], 2))
        rows.append((label, *(NOT_READ[:3] if lacks else told)))
    drawn = error.draw(rungs, title="Error by patch", unit=pair.unit) if rungs else ""
    return Picture(
        "errors",
        "How far is each patch from right?",
        words.errors(pair.said),
        mark_safe(drawn),
        Table(("patch", f"error, {pair.unit}", "95 % between", "colour only"), rows),
        not rungs,
    )


VIEWS: dict[str, tuple[str, Callable[[Pair], Picture]]] = {
    "balance": ("balance", _balance),
    "tone": ("tone", _tone),
    "colours": ("colour map", _colour_map),
    "errors": ("error", _errors),
    "light": ("light", light_picture),
    "wrong": ("wrong", wrong_picture),
}


IN_XY = "colours-xy"  # the colour map in x y, which is no view of its own


def draw(view: str, pair: Pair) -> Picture:
    """Return a picture by the name of its view; an unknown name gives the first."""
    drawn = _colour_map(pair, colourmap.XY) if view == IN_XY else VIEWS.get(view, VIEWS["balance"])[1](pair)
    return shown_in(drawn, pair.awaited) if drawn.empty and pair.awaited is not None else drawn
