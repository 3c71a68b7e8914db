"""HDR lists: a percentage of signal is no percentage of light, so colours are placed by light that the display was read to give."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour import curves
from fenvik.core.colour.space import P3D65, Primaries, rgb_to_xyz_matrix, xyz_to_uv
from fenvik.core.colour.target import Target
from fenvik.core.signal.decoding import Range
from fenvik.core.signal.patches import COLOURS, KNOWN, Patch, patch
from fenvik.core.signal.shown import Shown, beside, plain

HALF_LIGHT = 0.5  # of the peak: where colours are judged, and neither a white sub-pixel nor the power limit speaks
REFERENCE_WHITE = 203.0  # cd/m², of diffuse white in HDR: BT.2408-7, table 1
LUMINANCES = (100.0, 10.0, 1.0)  # cd/m² of white, after three quarters of the peak
FILMS_AT, FILMS_OF_PEAK = 100.0, 0.3  # cd/m² of white, and at most this share of the peak: where the colours of films are judged
PALE = 0.5  # of the way from white to a colour


@dataclass(frozen=True)
class Stage:
    """What an HDR list is made for: the target, and the light in cd/m² that the display was read to give, or is taken to."""

    target: Target
    peak: float

    def patch(self, label: str, linear: ArrayLike, bits: int, range_: Range) -> Patch:
        """Return the patch of linear light of the target's primaries, in cd/m² of white, as the signal carries it."""
        xyz = self.target.matrix @ np.asarray(linear, dtype=np.float64)
        # The signal says what the picture is; what the display makes of it beyond its peak is the target's roll-off.
        said = replace(self.target, rolls_off=False)
        fraction = np.clip(said.drive(xyz, self.peak, 0.0), 0.0, 1.0)
        red, green, blue = (round(100.0 * float(v), 4) for v in fraction)
        return patch(label, (red, green, blue), bits, range_)

    def coloured(
        self, label: str, mix: Sequence[float], share: float, light: float, bits: int, range_: Range, of: Primaries | None = None
    ) -> Patch:
        """Return a colour on the line of u′v′ from white to a mix of the primaries, as bright as the mix itself.

        ``share``: of the way; ``light``: cd/m² of white at which its channels shine; ``of``: other primaries than the target's.
        """
        matrix = self.target.matrix if of is None else rgb_to_xyz_matrix(of, self.target.white_xy)
        full = matrix @ (np.asarray(mix, dtype=np.float64) * light)
        white_uv, full_uv = xyz_to_uv(self.target.white), xyz_to_uv(full)
        u, v = white_uv + share * (full_uv - white_uv)
        y = full[1]
        xyz = np.array([9.0 * u / (4.0 * v) * y, y, (12.0 - 3.0 * u - 20.0 * v) / (4.0 * v) * y])
        return self.patch(label, self.target.inverse_matrix @ xyz, bits, range_)


def colours_in_light(stage: Stage, bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    """Return primaries and secondaries at half of the peak."""
    light = HALF_LIGHT * stage.peak
    return plain([stage.coloured(f"{name} 50 % light", mix, 1.0, light, bits, range_) for name, mix in COLOURS.items()])


def of_films(stage: Stage, bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    """Return the six colours of P3, full and pale: what pictures have, where BT.2020's own corners are beyond every display."""
    light = min(FILMS_AT, FILMS_OF_PEAK * stage.peak)
    return plain(
        [
            stage.coloured(f"P3 {name}{words}", mix, share, light, bits, range_, of=P3D65)
            for share, words in ((1.0, ""), (PALE, ", pale"))
            for name, mix in COLOURS.items()
        ]
    )


def saturations_in_light(stage: Stage, bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    """Return primaries and secondaries at four shares of the way from white, at half of the peak."""
    light = HALF_LIGHT * stage.peak
    return plain(
        [
            stage.coloured(f"{name} {100 * share:g} % sat", mix, share, light, bits, range_)
            for name, mix in COLOURS.items()
            for share in (1.0, 0.75, 0.5, 0.25)
        ]
    )


def luminances_in_light(stage: Stage, bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    """Return primaries and secondaries at three quarters of the peak, and at fixed lights below."""
    lights = [0.75 * stage.peak, *(light for light in LUMINANCES if light < 0.6 * stage.peak)]
    return plain(
        [
            stage.coloured(f"{name} {light:.3g} cd/m²", mix, 1.0, light, bits, range_)
            for name, mix in COLOURS.items()
            for light in lights
        ]
    )


def known_in_light(stage: Stage, bits: int, range_: Range, _: dict[str, Any]) -> list[Shown]:
    """Known colours as they are in a picture of BT.709, at HDR's diffuse white or three quarters of a dimmer display's peak."""
    white = min(REFERENCE_WHITE, 0.75 * stage.peak)
    picture = Target("picture", curve="power", gamma=2.4, white_xy=stage.target.white_xy)
    made = []
    for name, percent in KNOWN.items():
        xyz = picture.xyz(np.array(percent) / 100.0, white, 0.0)
        made.append(stage.patch(name, stage.target.inverse_matrix @ xyz, bits, range_))
    return plain(made)


def volume_in_light(stage: Stage, bits: int, range_: Range, options: dict[str, Any]) -> list[Shown]:
    """Return a grid up to the peak, even in PQ."""
    top = float(curves.pq_inverse(stage.peak))
    steps = np.linspace(0.0, 1.0, int(options.get("edge", 4)))
    light, named = curves.pq(steps * top), [f"{100 * step:.0f}" for step in steps]
    made = [
        stage.patch(f"{named[r]} {named[g]} {named[b]}", (light[r], light[g], light[b]), bits, range_)
        for r in reversed(range(len(steps))) for g in reversed(range(len(steps))) for b in reversed(range(len(steps)))
        if r or g or b
    ]  # fmt: skip
    return beside(made)
