"""The form of what a tuning aims at."""

from typing import Any

from django import forms

from fenvik.core.signal.patterns.options import PatternError, three_primaries
from fenvik.formats.numbers import NumberError, numbers
from fenvik.web.visits.aimed import ENDS, FREE_CURVES, PRIMARIES, SIGNALS, TARGET_LABELS, clash
from fenvik.web.visits.endform import EndForm, typed_points
from fenvik.web.visits.models import Purpose, Tuning

NAMED_TARGETS = [(name, label) for name, label in TARGET_LABELS.items() if name != "free"]


def refuse_clash(form: forms.Form, cleaned: dict[str, Any], field: str = "target_name") -> None:
    """Say where a target cannot be held against the signal."""
    problem = clash(cleaned.get("signal") or "sdr", cleaned["target_name"], cleaned.get("free"))
    if problem:
        form.add_error(field, problem)


class TargetForm(EndForm):
    """What a tuning aims at: a named target, or a free one of primaries, white and curve."""

    name = forms.CharField(max_length=80, label="Name of the tuning")
    picture_mode = forms.CharField(max_length=60, label="Picture mode", help_text="as the display calls it")
    purpose = forms.ChoiceField(choices=Purpose.choices)
    signal = forms.ChoiceField(
        choices=list(SIGNALS.items()), widget=forms.Select(attrs={"data-shows": True})
    )
    target_name = forms.ChoiceField(choices=list(TARGET_LABELS.items()), label="Target")
    luminance = forms.FloatField(
        required=False, min_value=5, max_value=5000, label="White, cd/m²", help_text="empty for HDR10: its light belongs at the top"
    )
    tolerance = forms.FloatField(min_value=0.1, max_value=10, help_text="CIEDE2000; ΔE ITP for HDR")
    primaries = forms.ChoiceField(
        choices=[*((n, w) for n, (w, _) in PRIMARIES.items()), ("own", "own")], required=False
    )
    own = forms.CharField(required=False, label="Own primaries", help_text="x y of red, green, blue: six numbers")
    white = forms.CharField(required=False, label="White, x y", help_text="empty for D65")
    curve = forms.ChoiceField(choices=list(FREE_CURVES.items()), required=False)
    gamma = forms.FloatField(required=False, min_value=1.0, max_value=4.0)

    PLAIN = ("name", "picture_mode", "purpose", "signal", "target_name", "luminance", "tolerance")
    FREE = ("primaries", "own", "white", "curve", "gamma")

    def __init__(self, *args, tuning: Tuning, **kwargs) -> None:  # type: ignore[no-untyped-def]
        free = tuning.free or {"primaries": "bt709", "curve": "power", "gamma": 2.4}
        own = free["primaries"] if not isinstance(free["primaries"], str) else None
        initial = {
            name: getattr(tuning, name)
            for name in (*self.PLAIN, *ENDS)
        } | {
            "knees": typed_points(tuning.knees),
            "primaries": "own" if own else free["primaries"], "curve": free["curve"], "gamma": free.get("gamma"),
            "own": " ".join(f"{v:g}" for pair in own for v in pair) if own else "",
            "white": " ".join(f"{v:g}" for v in free["white"]) if free.get("white") else "",
        }  # fmt: skip
        super().__init__(*args, initial=initial, **kwargs)
        # A display on the link has said which modes it has: they are offered.
        self.modes = list(dict.fromkeys(mode["label"] for mode in (tuning.display.said or {}).get("modes", [])))
        if self.modes:
            self.fields["picture_mode"].widget.attrs["list"] = "modes"

    @property
    def plain_fields(self) -> list[Any]:
        """The fields of every target."""
        return [self[name] for name in self.PLAIN]

    @property
    def end_fields(self) -> list[Any]:
        """The fields of how PQ ends."""
        return [self[name] for name in ENDS]

    @property
    def free_fields(self) -> list[Any]:
        """The fields of a free one."""
        return [self[name] for name in self.FREE]

    def clean(self) -> dict[str, Any]:
        """Put a free target together; each wrong part has its sentence."""
        cleaned = super().clean() or {}
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
