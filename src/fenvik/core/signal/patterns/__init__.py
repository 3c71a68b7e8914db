"""The library of patterns: exact pictures, each with the control that it is for and what to look for."""

from fenvik.core.signal.patterns import colour, detail, fields, gradients, levels, scene
from fenvik.core.signal.patterns.board import COLOURS, Board, Signal
from fenvik.core.signal.patterns.options import Option, PatternError, settle
from fenvik.core.signal.patterns.pattern import How, Moving, Pattern

_ORDER = (
    "black-level", "white-level", "clipping", "range", "sharpness", "overscan", "one-to-one", "colour-bars", "alignment",
    "convergence", "focus", "steps", "ramp-grey", "ramp-colour", "gradient-2d", "gradient-any", "circles", "checkerboard",
    "corner-windows", "bleed",
    "uniformity", "zone-plate", "chroma-positions", "chroma-upsampling", "colour-space", "white-scene", "cadence", "motion-lines", "patch",
)  # fmt: skip
_ALL = {p.id: p for module in (levels, detail, gradients, colour, fields, scene) for p in module.PATTERNS}
PATTERNS: dict[str, Pattern] = {name: _ALL[name] for name in _ORDER}

__all__ = ["COLOURS", "PATTERNS", "Board", "How", "Moving", "Option", "Pattern", "PatternError", "Signal", "pattern_of", "settle"]


def pattern_of(name: str) -> Pattern:
    """Return a pattern by its id. Raises PatternError."""
    if name not in PATTERNS:
        raise PatternError(f"There is no pattern called {name[:40]}.")
    return PATTERNS[name]
