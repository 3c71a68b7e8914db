"""Whether a correction can be believed that is made of what two meters have read: what speaks against it, in a sentence."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike

MOST_APART, MOST_LESS = 0.02, 0.04  # of white: between its two readings, and below the sum of its parts
MOST_APART_BY_HAND = 0.05  # a display warms up over minutes; both meters see each patch in that same light
FOOT_LAMBERT = 3.4263  # cd/m²
MOST_LIGHT_APART = 0.1  # relative, of two meters: the stand-ins' are within 0.013 of each other
MOST_SEEN_APART = 0.03  # of a patch's luminance, by the corrected meter and the reference: noise is within 0.011


def less_than_parts(four: ArrayLike, dark: float = 0.0) -> float:
    """Return by what share of its parts together white has less light than they, negative where it has more.

    ``four``: XYZ (4, 3) of red, green, blue and white in cd/m²; ``dark``: black's luminance, which is in each of the four.
    """
    red, green, blue, white = np.asarray(four, dtype=np.float64)[:, 1] - dark
    return float(1.0 - white / max(red + green + blue, 1e-9))


def lights_apart(meter: ArrayLike, reference: ArrayLike) -> tuple[str, ...]:
    """Return what is to be said where two meters give far from the same light of the same patches, XYZ (n, 3) in cd/m² each."""
    share = float(np.median(np.asarray(meter, dtype=np.float64)[:, 1] / np.asarray(reference, dtype=np.float64)[:, 1]))
    if max(share, 1.0 / share) <= 1.0 + MOST_LIGHT_APART:
        return ()
    for who, apart in (("reference", share), ("meter", 1.0 / share)):
        if abs(apart / FOOT_LAMBERT - 1.0) <= MOST_LIGHT_APART:
            return (f"The {who} gives as much light as if its values were foot-lamberts: one is 3.426 cd/m², which are wanted.",)
    more = f"{100 * abs(share - 1.0):.0f} % {'more' if share > 1 else 'less'}"
    return (f"The meter gives {more} light than the reference: do both look at the same spot, with nothing before either?",)


def is_seen_alike(dy_percent: ArrayLike) -> bool:
    """Return whether a corrected meter gives patches the light that the reference does: residuals (n,) of luminance in percent.

    The four-colour method is made of chromaticities and one factor for all: no luminance of a colour goes into it, so each tells
    whether both meters had the same light before them. Had they, it is right of three lights in whatever amounts.
    """
    return bool((np.abs(np.asarray(dy_percent, dtype=np.float64)) <= 100 * MOST_SEEN_APART).all())


def speaks_against(
    four: ArrayLike, whites: Sequence[float], dark: float = 0.0, *, most_less: float = MOST_LESS, most_apart: float = MOST_APART
) -> str:
    """Return in a sentence why readings cannot be believed; empty where they can.

    ``four``: XYZ (4, 3) of red, green, blue and white as the reference saw them; ``whites``: luminances in cd/m² of white as one
    meter saw it before and after the rest; ``dark``: black's. A white sub-pixel gives white *more* light than its parts, which the
    four-colour method holds; a white that is less, or that is not the same twice, is one that something works on. ``most_less``:
    share by which white may be less than its parts; infinite where these tell nothing, as at full drive in HDR, where a display
    ends, and behind a cube. ``most_apart``: relative, of both readings of white.
    """
    apart = abs(whites[-1] / max(whites[0], 1e-9) - 1.0)
    if apart > most_apart:
        return f"white was read twice and is {100 * apart:.0f} % apart, so something still works on the picture."
    less = less_than_parts(four, dark)
    if less > most_less:
        return f"white is {100 * less:.0f} % less than its parts together, so something dims it."
    return ""
