"""The form of what a tuning aims at."""

from itertools import pairwise
from typing import Any

from django import forms

from fenvik.core.signal.patterns.options import PatternError, three_primaries
from fenvik.formats.numbers import NumberError, number, numbers
from fenvik.web.kit.forms import PlainNumbers
from fenvik.web.visits.models import FREE_CURVES, PRIMARIES, ROLL_OFFS, SIGNALS, TARGET_LABELS, Purpose, Tuning, clash

MOST_KNEES = 3
NAMED_TARGETS = [(name, label) for name, label in TARGET_LABELS.items() if name != "free"]


def refuse_clash(form: forms.Form, cleaned: dict[str, Any], field: str = "target_name") -> None:
    """Say where a target cannot be held against the signal."""
    problem = clash(cleaned.get("signal") or "sdr", cleaned["target_name"], cleaned.get("free"))
    if problem:
        form.add_error(field, problem)


class TargetForm(PlainNumbers, forms.Form):
    """What a tuning aims at: a named target, or a free one of primaries, white and curve."""

    name = forms.CharField(max_length=80, label="Name of the tuning")
    picture_mode = forms.CharField(max_length=60, label="Picture mode", help_text="as the display calls it")
    purpose = forms.ChoiceField(choices=Purpose.choices)
    signal = forms.ChoiceField(choices=list(SIGNALS.items()))
    target_name = forms.ChoiceField(choices=list(TARGET_LABELS.items()), label="Target")
    luminance = forms.FloatField(required=False, min_value=5, max_value=5000, label="White, cd/m²")
    tolerance = forms.FloatField(min_value=0.1, max_value=10, help_text="CIEDE2000; ΔE ITP for HDR")
    roll_off = forms.ChoiceField(choices=list(ROLL_OFFS.items()), label="PQ beyond its peak", required=False)
    mastered = forms.FloatField(min_value=100, max_value=10000, required=False, label="Mastered to, cd/m²")
    mastered_least = forms.FloatField(min_value=0, max_value=1, required=False, label="Mastered down to, cd/m²")
    knees = forms.CharField(
        required=False, label="Its points", help_text="PQ signal in and out, such as 0.6:0.6 0.75:0.68; one to three",
        max_length=80,
    )  # fmt: skip
    primaries = forms.ChoiceField(
        choices=[*((n, w) for n, (w, _) in PRIMARIES.items()), ("own", "own")], required=False
    )
    own = forms.CharField(required=False, label="Own primaries", help_text="x y of red, green, blue: six numbers")
    white = forms.CharField(required=False, label="White, x y", help_text="empty for D65")
    curve = forms.ChoiceField(choices=list(FREE_CURVES.items()), required=False)
    gamma = forms.FloatField(required=False, min_value=1.0, max_value=4.0)

    PLAIN = (
        "name", "picture_mode", "purpose", "signal", "target_name", "luminance", "tolerance", "roll_off", "mastered",
        "mastered_least", "knees",
    )  # fmt: skip
    FREE = ("primaries", "own", "white", "curve", "gamma")

    def __init__(self, *args, tuning: Tuning, **kwargs) -> None:  # type: ignore[no-untyped-def]
        free = tuning.free or {"primaries": "bt709", "curve": "power", "gamma": 2.4}
        own = free["primaries"] if not isinstance(free["primaries"], str) else None
        initial = {
            name: getattr(tuning, name)
            for name in self.PLAIN
        } | {
            "knees": " ".join(f"{float(x):g}:{float(y):g}" for x, y in tuning.knees),
            "primaries": "own" if own else free["primaries"], "curve": free["curve"], "gamma": free.get("gamma"),
            "own": " ".join(f"{v:g}" for pair in own for v in pair) if own else "",
            "white": " ".join(f"{v:g}" for v in free["white"]) if free.get("white") else "",
        }  # fmt: skip
        super().__init__(*args, initial=initial, **kwargs)
        # A display on the link has said which modes it has: they are offered.
        self.modes = [mode["label"] for mode in (tuning.display.said or {}).get("modes", [])]
        if self.modes:
            self.fields["picture_mode"].widget.attrs["list"] = "modes"

    @property
    def plain_fields(self) -> list[Any]:
        """The fields of every target."""
        return [self[name] for name in self.fields if name not in self.FREE]

    @property
    def free_fields(self) -> list[Any]:
        """The fields of a free one."""
        return [self[name] for name in self.FREE]

    def clean(self) -> dict[str, Any]:
        """Put a free target together; each wrong part has its sentence."""
        cleaned = super().clean() or {}
        cleaned["knees"] = self._knees(cleaned.get("knees", ""), cleaned.get("roll_off") == "points")
        if cleaned.get("target_name") != "free":
            if cleaned.get("signal") and cleaned.get("target_name"):
                refuse_clash(self, cleaned)
            return cleaned
        facts: dict[str, Any] = {
            "curve": cleaned.get("curve") or "power",
            "primaries": cleaned.get("primaries") or "bt709",
        }
        if facts["primaries"] == "own":
            try:
                own = three_primaries(cleaned.get("own", ""))
                facts["primaries"] = [list(own.red), list(own.green), list(own.blue)]
            except PatternError as problem:
                self.add_error("own", str(problem))
        if facts["curve"] == "power":
            if cleaned.get("gamma") is None:
                self.add_error("gamma", "A power curve needs its gamma.")
            facts["gamma"] = cleaned.get("gamma")
        white = self._white(cleaned.get("white", ""))
        if white is not None:
            facts["white"] = white
        cleaned["free"] = facts
        if cleaned.get("signal"):
            refuse_clash(self, cleaned, "curve")
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

    def _white(self, text: str) -> list[float] | None:
        if not text.strip():
            return None
        try:
            told = numbers(text)
        except NumberError:
            told = []
        if len(told) != 2 or not all(0.1 < v < 0.7 for v in told) or sum(told) >= 1:
            self.add_error("white", "A white is two numbers, x and y, such as 0.3127 0.3290.")
            return None
        return told
