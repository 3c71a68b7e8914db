"""What pictures are made of: a question, an answer, a chart and its table; and the two passes that they show."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from django.utils.safestring import SafeString

from fenvik.charts import balance
from fenvik.core.analysis.analysis import Analysis
from fenvik.core.colour.metric import DE2000
from fenvik.web.results.special import Special


@dataclass(frozen=True)
class Table:
    """Column heads, and rows of texts."""

    head: tuple[str, ...]
    rows: Sequence[tuple[str, ...]]


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

    @property
    def unit(self) -> str:
        """What errors are told in."""
        return DE2000.unit if self.said is None else self.said.target.metric.unit

    @property
    def said(self) -> Analysis | None:
        """What the sentences speak of."""
        return self.left or self.found


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
