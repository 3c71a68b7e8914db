"""By which patches a display is judged and moved: greys up to where it can follow, colours that it can give.

In SDR those are shares of the signal. In HDR a share of the signal is no share of light: greys end at the display's peak, and
colours are placed by their light, far below it, where neither a white sub-pixel nor a power limit speaks.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np

from fenvik.core.colour.curves import pq_inverse
from fenvik.core.colour.space import P3D65, rgb_to_xyz_matrix
from fenvik.core.colour.target import Target
from fenvik.core.models.hues import HUES, SKINS, Percent, patches_for
from fenvik.core.models.rolloff import RollOff
from fenvik.core.signal.stage import FILMS_AT, FILMS_OF_PEAK
from fenvik.core.types import Floats

FOUND = (100.0, 80.0, 60.0, 40.0, 30.0, 20.0, 10.0, 5.0, 0.0)  # greys that are read before and after, of the range that is judged
FULL = 100.0
NEAR_PEAK = 0.95  # of the peak: above it a display ends, and nothing is chased
SKIN_AT, SKIN_OF_PEAK = 203.0, 0.5  # the same of diffuse white that skin stands in: BT.2408
PALE = 0.25  # of the light: what the other lights of a pale colour have
AT_END = (1.22, 1.12, 1.05, 0.95, 0.9)  # of the top: where a display rolls off
DARKEST = 5.0  # percent of signal


@dataclass(frozen=True)
class Palette:
    """``top``: the greatest fraction of signal at which greys are judged; ``hues``: three or two patches of each colour."""

    top: float = 1.0
    hues: dict[str, list[tuple[str, Percent]]] = field(default_factory=lambda: {name: patches_for(name) for name in HUES})
    roll: RollOff | None = None  # how an HDR display ends, once greys have told
    white_of_colours: Percent = (FULL, FULL, FULL)  # the grey of the light in which the full colours are
    full: tuple[Percent, ...] = tuple((FULL * r, FULL * g, FULL * b) for r, g, b in HUES.values())
    ends_at: float = 1.0  # the PQ signal of the display's peak

    @property
    def is_shortened(self) -> bool:
        """Whether greys end below full signal."""
        return self.top < 1.0

    def greys(self, percents: Iterable[float]) -> list[float]:
        """Return percentages of signal for those of the range that is judged; none but black is darker than is read there."""
        return [p if not self.is_shortened or p == 0 else max(round(p * self.top, 2), DARKEST) for p in percents]

    def fractions(self, levels: Floats) -> Floats:
        """Return fractions of signal for those of the range that is judged."""
        return levels * self.top if self.is_shortened else levels

    @property
    def reach(self) -> float:
        """The fraction of signal up to which the display goes on by itself: a target may end otherwise, and beyond that."""
        return min(self.top, self.ends_at)

    @property
    def end(self) -> list[float]:
        """Percentages of signal by which the end of an HDR display is told, beside those of the proof."""
        return [round(min(100.0 * self.reach * share, 99.0), 2) for share in AT_END] if self.is_shortened else []

    @property
    def skins(self) -> dict[str, Percent]:
        """The skin tones by name."""
        return dict(patches[2] for patches in self.hues.values() if len(patches) > 2)

    @property
    def found(self) -> list[float]:
        """Percentages of the greys that are read before and after: white too, where the range ends below it."""
        return list(FOUND) if not self.is_shortened else [100.0, *self.greys(FOUND[:-2]), 0.0]

    def proof(self, *, colours: bool) -> list[Percent]:
        """Return the patches that are read before and after; colours only where they are adjusted."""
        greys: list[Percent] = [(level, level, level) for level in self.found]
        return [*greys, *((*self.full, *self.skins.values()) if colours else ())]

    @property
    def named(self) -> dict[str, Percent]:
        """The colours of the proof by name."""
        return dict(zip(HUES, self.full, strict=True)) | self.skins


SDR = Palette()


def palette_for(target: Target, white: float, black: float = 0.0) -> Palette:
    """Return the patches for a target on a display with these luminances of full signal and black, in cd/m²."""
    if not target.is_hdr:
        return SDR
    top = 1.0 if target.curve != "pq" else float(target.fraction(NEAR_PEAK * white, white, black))
    matrix = rgb_to_xyz_matrix(P3D65, target.white_xy)
    light = min(FILMS_AT, FILMS_OF_PEAK * white)

    def percent(rgb: Sequence[float]) -> Percent:
        made = 100.0 * np.clip(target.drive(matrix @ np.asarray(rgb, dtype=np.float64), white, black), 0.0, 1.0)
        return (round(float(made[0]), 3), round(float(made[1]), 3), round(float(made[2]), 3))

    picture = Target("picture", curve="power", gamma=2.4, white_xy=target.white_xy)
    skin_light = min(SKIN_AT, SKIN_OF_PEAK * white)
    hues: dict[str, list[tuple[str, Percent]]] = {}
    for name, mix in HUES.items():
        full, pale = [light * part for part in mix], [light * max(part, PALE) for part in mix]
        hues[name] = [(name, percent(full)), (f"pale {name}", percent(pale))]
        if name in SKINS:
            words, share = SKINS[name]
            xyz = picture.xyz(np.array(share) / 100.0, skin_light, 0.0)
            hues[name].append((words, percent(np.linalg.solve(matrix, xyz).tolist())))
    colours = tuple(patches[0][1] for patches in hues.values())
    return Palette(min(top, 1.0), hues, None, percent((light, light, light)), colours, float(pq_inverse(white)))
