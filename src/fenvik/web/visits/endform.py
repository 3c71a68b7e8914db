"""The part of a target's form that says how PQ ends: for the form, and for the page that draws it while it is chosen."""

from itertools import pairwise
from typing import Any

from django import forms

from fenvik.formats.numbers import NumberError, number
from fenvik.web.kit.forms import PlainNumbers
from fenvik.web.visits.aimed import LEAST_MASTERED, ROLL_OFFS, ROLLED_BY

MOST_KNEES = 3
MASTERED = 1000.0


class EndForm(PlainNumbers, forms.Form):
    """Clipped, rolled off or by points; from which mastering; towards which reference white."""

    roll_off = forms.ChoiceField(choices=list(ROLL_OFFS.items()), label="PQ beyond its peak", required=False)
    rolled_by = forms.ChoiceField(
        choices=list(ROLLED_BY.items()), label="BT.2390 bends", required=False,
        help_text="by itself: bright colours pale; all three: they keep their colour, the greatest dims more",
    )  # fmt: skip
    mastered = forms.FloatField(
        min_value=100, max_value=10000, required=False, label="Mastered to, cd/m²", help_text="1000, 4000, 10000, …"
    )
    mastered_least = forms.FloatField(min_value=0, max_value=1, required=False, label="Mastered down to, cd/m²")
    max_cll = forms.FloatField(
        min_value=50, max_value=10000, required=False, label="The film’s own most, cd/m²",
        help_text="MaxCLL, where it is known: what is rolled off ends there",
    )  # fmt: skip
    diffuse = forms.FloatField(
        min_value=5, max_value=500, required=False, label="Reference white, cd/m²",
        help_text="what 203 becomes, on a projector; empty for as it is",
    )  # fmt: skip
    knees = forms.CharField(
        required=False, label="Its points", help_text="PQ signal in and out, such as 0.6:0.6 0.75:0.68; one to three",
        max_length=80,
    )  # fmt: skip

    def clean(self) -> dict[str, Any]:
        """Give every field its usual value where it is empty; points that do not rise have their sentence."""
        cleaned = super().clean() or {}
        cleaned["knees"] = self._knees(cleaned.get("knees", ""), cleaned.get("roll_off") == "points")
        cleaned["roll_off"] = cleaned.get("roll_off") or "clip"
        cleaned["rolled_by"] = cleaned.get("rolled_by") or "light"
        cleaned["mastered"] = cleaned.get("mastered") or MASTERED
        if cleaned.get("mastered_least") is None:
            cleaned["mastered_least"] = LEAST_MASTERED
        for name in ("max_cll", "diffuse"):
            cleaned.setdefault(name, None)
        return cleaned

    def _knees(self, text: str, wanted: bool) -> list[list[float]]:
        """Return points that rise in both numbers; what is wrong with them is said where they are wanted."""
        try:
            points = [[number(part) for part in pair.split(":")] for pair in text.replace(";", " ").split()]
        except NumberError:
            points = [[]]
        right = 1 <= len(points) <= MOST_KNEES and all(len(p) == 2 and min(p) >= 0.0 and max(p) <= 1.0 for p in points)
        right = right and all(a[0] < b[0] and a[1] < b[1] for a, b in pairwise(points))
        if wanted and not right:
            self.add_error("knees", "Points are one to three pairs of PQ signal, in and out, both rising: 0.6:0.6 0.75:0.68.")
        return points if right else []


def typed_points(points: list[list[float]] | tuple[tuple[float, float], ...]) -> str:
    """Return points as they are typed."""
    return " ".join(f"{float(x):g}:{float(y):g}" for x, y in points)
