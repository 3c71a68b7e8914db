"""The patches that a correction is made of, by method, and how a display's additivity proposes the method."""

from collections.abc import Sequence

from fenvik.core.measure.correction import Method
from fenvik.core.signal.decoding import Range
from fenvik.core.signal.patches import Patch, patch

FULL = {"red": (100.0, 0.0, 0.0), "green": (0.0, 100.0, 0.0), "blue": (0.0, 0.0, 100.0), "white": (100.0, 100.0, 100.0)}
# A display whose white is more than the sum mixes light of a fourth kind into everything pale, so pale colours of every
# hue and the greys between are read too.
MIXTURES = {
    "yellow": (100.0, 100.0, 0.0),
    "cyan": (0.0, 100.0, 100.0),
    "magenta": (100.0, 0.0, 100.0),
    "50 % grey": (50.0, 50.0, 50.0),
    "75 % grey": (75.0, 75.0, 75.0),
    "pale red": (100.0, 50.0, 50.0),
    "pale green": (50.0, 100.0, 50.0),
    "pale blue": (50.0, 50.0, 100.0),
    "skin": (100.0, 75.0, 50.0),
    "sky": (50.0, 75.0, 100.0),
    "rose": (75.0, 50.0, 100.0),
    "leaf": (75.0, 100.0, 50.0),
}
FIRST = ("white", "red", "green", "blue")
AGAIN = "white again"  # at the end: what drifted or moved in between shows


def correction_list(method: Method, bits: int, range_: Range) -> list[Patch]:
    """Return the patches of a method in the order in which they are read: white first and last, black for stray light.

    ``bits`` and ``range_`` are those of the code values. "primaries" reads white too: the additivity of the display and the
    before and after of its white are told from it.
    """
    named = dict(FULL)
    if method in ("weighted", "least-squares"):
        named |= MIXTURES
    listed = [patch(name, named.pop(name), bits, range_) for name in FIRST]
    listed += [patch(name, percent, bits, range_) for name, percent in named.items()]
    return [*listed, patch("black", (0.0, 0.0, 0.0), bits, range_), patch(AGAIN, FULL["white"], bits, range_)]


def rows_for(method: Method, labels: Sequence[str]) -> list[int]:
    """Return which rows a method takes, in its order: red, green, blue, then white, then any others with light."""
    wanted = ["red", "green", "blue"] if method == "primaries" else ["red", "green", "blue", "white"]
    rows = [labels.index(name) for name in wanted if name in labels]
    if method in ("weighted", "least-squares"):
        rows += [i for i, name in enumerate(labels) if name not in (*wanted, "black", AGAIN)]
    return rows
