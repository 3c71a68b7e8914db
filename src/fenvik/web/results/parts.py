"""What pictures are made of: a question, an answer, a chart and its table; and the two passes that they show."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from django.utils.safestring import SafeString

from fenvik.charts import balance
from fenvik.core.analysis.analysis import Analysis
from fenvik.core.colour.metric import DE2000
from fenvik.core.colour.target import Target
from fenvik.core.signal.decoding import decode
from fenvik.core.signal.patches import COLOURS
from fenvik.core.types import Floats
from fenvik.web.results.special import Special


@dataclass(frozen=True)
class Table:
    """Column heads, and rows of texts."""

    head: tuple[str, ...]
    rows: Sequence[tuple[str, ...]]
    in_sentences: bool = False  # and not in figures


@dataclass(frozen=True)
class Picture:
    """What a field shows."""

    id: str
    question: str
    sentence: SafeString
    svg: SafeString
    table: Table
    empty: bool = False

    @property
    def is_drawn(self) -> bool:
        """Whether there is a chart, and not words alone."""
        return "<svg" in self.svg


@dataclass(frozen=True)
class Awaited:
    """The patches that will be read, as signal fractions (n, 3), and the white in cd/m² that they are drawn for."""

    labels: tuple[str, ...]
    fraction: Floats
    target: Target
    white: float

    @classmethod
    def of(cls, rows: Sequence[dict[str, Any]], tuning: Any, white: float) -> "Awaited | None":
        """Return what is awaited of the patches that a pass lists; None where it reads nothing of which pictures are made."""
        main = [row for row in rows if row["part"] == "main"]
        if not main:
            return None
        codes = np.array([row["rgb"] for row in main], dtype=np.float64)
        fraction = decode(codes, tuning.bits, "full" if tuning.range == "full" else "limited")
        return cls(tuple(row["label"] for row in main), np.clip(fraction, 0.0, 1.0), tuning.target, white)

    @property
    def wanted(self) -> Floats:
        """XYZ (n, 3) in cd/m² of the patches, on a display without black."""
        return self.target.xyz(self.fraction, self.white, 0.0)

    @property
    def levels(self) -> Floats:
        """Signal (n,) of the greys from dark to bright, black left out."""
        greys = self.fraction[np.ptp(self.fraction, axis=1) < 1e-9, 0]
        rising: Floats = np.unique(np.round(greys[greys > 0], 4))
        return rising


@dataclass(frozen=True)
class Pair:
    """What is drawn: as found hollow, the other solid. On the stop As found there is only the first."""

    found: Analysis | None
    left: Analysis | None
    current: float | None = None  # percent of signal that is worked on
    levels: tuple[balance.Level, ...] | None = None  # rows of the balance, where they are not the pass's own
    steps: balance.StepScale | None = None
    whole: bool = False  # whether the errors of these rows have luminance in them
    answers: dict[str, SafeString] = field(default_factory=dict)
    found_special: Special | None = None
    left_special: Special | None = None
    window: float = 10.0
    awaited: Awaited | None = None  # what is drawn while nothing of it has been read

    @property
    def unit(self) -> str:
        """What errors are told in."""
        return DE2000.unit if self.said is None else self.said.target.metric.unit

    @property
    def said(self) -> Analysis | None:
        """What the sentences speak of."""
        return self.left or self.found


def own_colour(fraction: Sequence[float]) -> str:
    """Return #rrggbb of signal fractions, for the mark of a patch: toned down, so that no mark glares in the dim room."""
    toned = (0.86 * min(max(float(v), 0.0), 1.0) + 0.05 for v in fraction)
    return "#" + "".join(f"{round(255 * v):02x}" for v in toned)


def named_on_map(labels: Iterable[str]) -> set[str]:
    """Return which patches have their names on the colour map: one of each colour, and of P3 its own, full before what is less."""
    named: dict[str, str] = {}
    for label in labels:
        start = "P3 " if label.startswith("P3 ") else ""
        name = start + label.removeprefix("P3 ").removesuffix(" 75 %").removesuffix(" 50 % light")
        if name.removeprefix("P3 ") in COLOURS and named.get(name) != name:
            named[name] = label
    return set(named.values())


class PatchKey(NamedTuple):
    """What makes a patch the same in two passes: what it is called, and its signal in thousandths."""

    label: str
    signal: tuple[int, ...]


def by_patch(analysis: Analysis | None) -> dict[PatchKey, int]:
    """Return the index of each patch of an analysis."""
    if analysis is None:
        return {}
    signals = np.round(analysis.readings.fraction * 1000.0).astype(int).tolist()
    named = zip(analysis.readings.labels, signals, strict=True)
    return {PatchKey(label, tuple(signal)): i for i, (label, signal) in enumerate(named)}


def grey_rows(analysis: Analysis | None) -> dict[float, int]:
    """Return the index of each lit grey by its level in percent."""
    if analysis is None:
        return {}
    percent = np.round(analysis.readings.fraction[:, 0] * 100.0)
    return {float(percent[i]): int(i) for i in np.flatnonzero(analysis.lit_grey)}
