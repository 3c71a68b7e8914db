"""What a picture shows before anything is read: its scale, and what is wanted of the patches that will be read."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from fenvik.charts import balance, colourmap, error, rolloff, tone
from fenvik.core.analysis import greyscale
from fenvik.core.colour import curves
from fenvik.core.colour.space import xy_to_xyz
from fenvik.core.types import Floats
from fenvik.web.results.parts import Awaited, Picture, named_on_map, own_colour


def _balance(awaited: Awaited) -> tuple[SafeString, str]:
    levels = awaited.levels
    band = greyscale.tolerance_percent(levels, awaited.target, awaited.white, 0.0, awaited.target.tolerance)
    rows = [
        balance.Level(float(round(100 * level)), None, None, None, None, float(half))
        for level, half in zip(levels, band, strict=True)
    ]
    told = "Red, green and blue will stand beside this line, level by level. The band is the tolerance, {}."
    return format_html(told, f"{awaited.target.tolerance:.1f}"), balance.draw(rows, title="The levels that will be read")


def _tone(awaited: Awaited) -> tuple[SafeString, str]:
    levels = awaited.levels
    wanted = awaited.target.xyz(np.repeat(levels[:, None], 3, axis=1), awaited.white, 0.0)[:, 1]
    if awaited.target.curve == "pq":
        asked = [
            rolloff.Grey(100 * float(level), float(curves.pq(level)), float(y), None)
            for level, y in zip(levels, wanted, strict=True)
        ]
        told = "What is given will stand beside this line. Where it ends the display’s peak will tell: {} cd/m² is drawn."
        return format_html(told, f"{awaited.white:.0f}"), rolloff.draw(asked, peak=None, title="The levels that will be read")
    band = greyscale.visible_percent(levels, awaited.target, awaited.white, 0.0)
    points = [
        tone.Point(float(round(100 * level)), None, 0.0, float(visible), None, None, float(share))
        for level, visible, share in zip(levels, band, wanted / awaited.white, strict=True)
    ]
    told = SafeString("Levels will stand above the line where they are too bright. Within the band nobody sees it.")
    return told, tone.draw(points, title="The levels that will be read")


def _colours(awaited: Awaited, plane: colourmap.Plane = colourmap.UV) -> tuple[SafeString, str]:
    def place(xyz: Floats) -> tuple[float, float]:
        a, b = plane.of_xyz(xyz)
        return float(a), float(b)

    named = named_on_map(awaited.labels)
    comets = [
        colourmap.Comet(label, own_colour(fraction), place(xyz), None, None, None, label in named)
        for label, fraction, xyz in zip(awaited.labels, awaited.fraction, awaited.wanted, strict=True)
        if np.ptp(fraction) > 1e-9
    ]
    of = awaited.target.primaries
    corners = [place(xy_to_xyz(np.array(xy))) for xy in (of.red, of.green, of.blue)]
    drawn = colourmap.draw(comets, [], corners, place(awaited.target.white), title="The colours that are wanted", plane=plane)
    return SafeString("The rings are where the colours that will be read are wanted."), drawn


def _errors(awaited: Awaited) -> tuple[SafeString, str]:
    rungs = [
        error.Rung(label, own_colour(fraction), None) for label, fraction in zip(awaited.labels, awaited.fraction, strict=True)
    ]
    drawn = error.draw(rungs, title="The patches that will be read", unit=awaited.target.metric.unit)
    return SafeString("Each patch will have its place on this ladder."), drawn


DRAWN: dict[str, Callable[[Awaited], tuple[SafeString, str]]] = {
    "balance": _balance,
    "tone": _tone,
    "colours": _colours,
    "errors": _errors,
}


def shown_in(picture: Picture, awaited: Awaited) -> Picture:
    """Return an empty picture with what is wanted drawn in it, where it is one that can show that."""
    if picture.id not in DRAWN:
        return picture
    told, drawn = DRAWN[picture.id](awaited)
    return replace(picture, sentence=format_html("{} {}", picture.sentence, told), svg=mark_safe(drawn))
