"""Patch lists of a pass: what each reads and why, put together in an order that spares time and heat."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.signal import stage as light
from fenvik.core.signal.decoding import Range, decode
from fenvik.core.signal.patches import COLOURS, KNOWN, Patch, Percent, full_colours, grey, patch
from fenvik.core.signal.shown import OF_PICTURE, Shown, beside, plain
from fenvik.core.signal.stage import Stage

WEIGHT = np.array([0.21, 0.72, 0.07])

STABILITY_S = 15.0
WINDOWS = (1.0, 2.0, 5.0, 10.0, 18.0, 25.0, 50.0, 75.0, 100.0)
NEAR_BLACK = (10.0, 8.0, 7.0, 6.0, 5.0, 4.0, 3.0, 2.0, 1.0, 0.0)
NEAR_WHITE = (100.0, 99.0, 98.0, 97.0, 96.0, 95.0, 94.0, 92.0, 90.0)
OVER_WHITE = (104.0, 108.0)
ROWS = {3: ("upper", "middle", "lower"), 5: ("top", "upper", "middle", "lower", "bottom")}
COLUMNS = {3: ("left", "centre", "right"), 5: ("far left", "left", "centre", "right", "far right")}


Make = Callable[[int, Range, dict[str, Any]], list[Shown]]
MakeLight = Callable[[Stage, int, Range, dict[str, Any]], list[Shown]]


@dataclass(frozen=True)
class Listed:
    """A list that can be chosen: its name, what it tells, and how it is made for a signal."""

    id: str
    name: str
    why: str
    make: Make
    light: MakeLight | None = None  # how it is made for an HDR signal, where that is another matter
    order: int = 0  # the higher the later: what is dark, heats or wants a hand comes after the rest
    is_hdr: bool = False  # of HDR alone


def _greys(levels: Sequence[float]) -> Make:
    return lambda bits, range_, _: plain([grey(level, bits, range_) for level in levels])


def _near_black(bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    return beside([grey(level, bits, range_) for level in NEAR_BLACK])


def _steps(count: int) -> Make:
    return _greys([round(float(v), 3) for v in np.linspace(100.0, 0.0, count)])


def _custom(bits: int, range_: Range, options: dict[str, Any]) -> list[Shown]:
    return _steps(int(options.get("steps", 33)))(bits, range_, options)


def _near_white(bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    over = OVER_WHITE if range_ == "limited" else ()
    return beside([grey(level, bits, range_) for level in (*over[::-1], *NEAR_WHITE)])


def _colours(level: float) -> Make:
    return lambda bits, range_, _: plain(full_colours(level, bits, range_))


def _saturations(bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    made = []
    for name, mix in COLOURS.items():
        for share in (100.0, 75.0, 50.0, 25.0):
            # The three of the primaries fall to grey's mean as saturation falls: what is taken from one is given to the others.
            percent = tuple(75.0 if lit else 75.0 * (1.0 - share / 100.0) for lit in mix)
            made.append(patch(f"{name} {share:g} % sat", percent, bits, range_))  # type: ignore[arg-type]
    return plain(made)


def _luminances(bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    made = []
    for name, mix in COLOURS.items():
        for level in (100.0, 80.0, 60.0, 40.0, 20.0):
            percent = tuple(level * lit for lit in mix)
            label = name if level == 100.0 else f"{name} {level:g} %"
            made.append(patch(label, percent, bits, range_))  # type: ignore[arg-type]
    return plain(made)


def _known(bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    return plain([patch(name, percent, bits, range_) for name, percent in KNOWN.items()])


def _volume(bits: int, range_: Range, options: dict[str, Any]) -> list[Shown]:
    edge = [round(float(v), 2) for v in np.linspace(0.0, 100.0, int(options.get("edge", 4)))]
    made = [
        patch(f"{r:.0f} {g:.0f} {b:.0f}", (r, g, b), bits, range_) for r in edge[::-1] for g in edge[::-1] for b in edge[::-1]
    ]
    return beside([p for p in made if any(p.percent)])


def _windows(bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    white = (100.0, 100.0, 100.0)
    return [Shown(patch(f"{w:g} % window", white, bits, range_), "window", window=w) for w in WINDOWS]


def _checkerboard(bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    made = []
    for label, level, start in (("white field", 100.0, "black"), ("black field", 0.0, "white")):
        chart = {"name": "checkerboard", "options": {"across": "5", "start": start}}
        made.append(Shown(patch(label, (level,) * 3, bits, range_), "checkerboard", chart=chart))
    return made


def _stability(bits: int, range_: Range, options: dict[str, Any]) -> list[Shown]:
    count = max(int(60 * float(options.get("minutes", 5)) / STABILITY_S), 2)
    white = (100.0, 100.0, 100.0)
    return [
        Shown(patch(f"white after {i * STABILITY_S / 60:.2g} min", white, bits, range_), "stability", wait_s=STABILITY_S if i else 0.0)
        for i in range(count + 1)
    ]


def _uniformity(bits: int, range_: Range, options: dict[str, Any]) -> list[Shown]:
    n, level = int(options.get("grid", 3)), float(options.get("grey", 75.0))
    made = []
    for row in range(n):
        # There and back like a plough: the meter is carried the shortest way.
        for column in range(n) if row % 2 == 0 else range(n - 1, -1, -1):
            where = f"{ROWS[n][row]} {COLUMNS[n][column]}"
            place = ((column + 0.5) / n, (row + 0.5) / n)
            made.append(
                Shown(
                    patch(where, (level,) * 3, bits, range_), "uniformity", window=100.0, place=place,
                    hold=f"Put the meter at {where}, {100 * place[0]:.0f} % across and {100 * place[1]:.0f} % down.",
                )
            )  # fmt: skip
    return made


LISTS: dict[str, Listed] = {
    made.id: made
    for made in (
        Listed("grey-11", "Greyscale, 11", "Balance and tone at a glance.", _steps(11)),
        Listed("grey-21", "Greyscale, 21", "Balance and tone for a display with many points.", _steps(21)),
        Listed("grey-own", "Greyscale, own steps", "As many even steps as are wanted.", _custom),
        Listed("near-white", "Near white", "Where the top of the curve bends or clips; above white too, in limited range.", _near_white, order=1),
        Listed("colours-100", "Primaries and secondaries, 100 %", "How far the colours reach.", _colours(100.0), order=2),
        Listed("colours-75", "Primaries and secondaries, 75 %", "The same where pictures are; in HDR at half of the peak’s light.", _colours(75.0), light.colours_in_light, 2),
        Listed("p3", "P3 colours", "The six colours of P3, full and pale, in light that films have: what an HDR display is asked for.", lambda *_: [], light.of_films, 2, is_hdr=True),
        Listed("saturations", "Saturation ladder", "Whether colours stay in place as they grow pale: six by four.", _saturations, light.saturations_in_light, 3),
        Listed("luminances", "Luminance ladder", "Whether colours stay in place as they grow dark: six by four or five.", _luminances, light.luminances_in_light, 3),
        Listed("known", "Skin and known colours", "Twelve colours that everybody judges without a meter.", _known, light.known_in_light, 4),
        Listed("volume", "Volume grid", "Red, green and blue in four levels each: what a model of the display is made of.", _volume, light.volume_in_light, 5),
        Listed("near-black", "Near black", "The first steps above black, one by one.", _near_black, order=6),
        Listed("windows", "Window ladder", "How luminance falls as the lit area grows.", _windows, order=7),
        Listed("checkerboard", "Checkerboard contrast", "Black beside white: what strays within a picture.", _checkerboard, order=8),
        Listed("stability", "Stability", "White every fifteen seconds for some minutes: how far light wanders by itself.", _stability, order=8),
        Listed("uniformity", "Uniformity", "The meter is carried over the screen, nine or twenty-five places.", _uniformity, order=9),
    )
}  # fmt: skip


@dataclass(frozen=True)
class Plan:
    """What a pass reads: lists by id, patches of own lists, and the options of the lists.

    ``drift_every``: a white is read after so many patches, so that drift can be taken out; 0 for never.
    """

    chosen: tuple[str, ...]
    own: tuple[tuple[str, Percent], ...] = ()
    drift_every: int = 0
    options: dict[str, Any] = field(default_factory=dict)


def luminance_share(p: Patch, bits: int, range_: Range) -> float:
    """Return about how bright a patch is, as a share of white: for orders and for times."""
    fraction = np.clip(decode(p.rgb, bits, range_), 0.0, 1.0)
    return float(fraction**2.3 @ WEIGHT)


def put_together(plan: Plan, bits: int, range_: Range, stage: Stage | None = None) -> list[Shown]:
    """Return the patches of a plan in the order in which they are read.

    Lists in their order, each from bright to dark, so that the display has its heat and no dark patch follows a bright one by
    surprise; a patch that two lists share is read once. ``stage``: what colours of an HDR signal are placed for.
    """
    made: list[Shown] = []
    seen: dict[tuple[int, int, int], str] = {}
    for listed in sorted((LISTS[name] for name in plan.chosen if name in LISTS), key=lambda one: one.order):
        in_light = stage is not None and listed.light is not None
        items = listed.light(stage, bits, range_, plan.options) if in_light else listed.make(bits, range_, plan.options)  # type: ignore[misc,arg-type]
        if listed.id in ("volume", "luminances", "saturations", "known"):
            items = sorted(items, key=lambda s: -luminance_share(s.patch, bits, range_))
        for item in items:
            if item.part in OF_PICTURE:
                if item.patch.rgb in seen:
                    continue
                seen[item.patch.rgb] = item.part
            made.append(item)
    for label, percent in plan.own:
        item = Shown(patch(label, percent, bits, range_))
        if seen.get(item.patch.rgb) != "main":
            seen[item.patch.rgb] = "main"
            made.append(item)
    return _with_drift(made, plan.drift_every, bits, range_)


def _with_drift(items: list[Shown], every: int, bits: int, range_: Range) -> list[Shown]:
    if every <= 0:
        return items
    white = Shown(patch("white, for drift", (100.0, 100.0, 100.0), bits, range_), "drift")
    made, since = [white], 0
    for item in items:
        made.append(item)
        since += item.part in OF_PICTURE
        if since == every:
            made.append(white)
            since = 0
    if since and items and made[-1] is not white:
        made.append(white)
    return made
