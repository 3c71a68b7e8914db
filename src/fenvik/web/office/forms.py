"""Forms of the office: clients, visits, tunings with their displays."""

from typing import Any

from django import forms

from fenvik.core.patterns.options import PatternError, three_primaries
from fenvik.formats.numbers import NumberError, numbers
from fenvik.web.clients.models import Client, Display, Room, Technology
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.menus.models import MenuMap
from fenvik.web.menus.shapes import SHAPES
from fenvik.web.visits.models import (
    FREE_CURVES,
    PRIMARIES,
    ROLL_OFFS,
    SIGNALS,
    TARGET_LABELS,
    Purpose,
    Tuning,
    Visit,
    clash,
)

NAMED_TARGETS = [(name, label) for name, label in TARGET_LABELS.items() if name != "free"]


class ClientForm(forms.ModelForm):
    """A client."""

    class Meta:
        model = Client
        fields = ["name", "contact", "phone", "email", "address", "notes"]
        widgets = {"notes": forms.Textarea(attrs={"rows": 3})}


class VisitForm(forms.ModelForm):
    """A visit: to a client who is known, or to a new one."""

    new_client = forms.CharField(max_length=120, required=False, label="or a new client")

    class Meta:
        model = Visit
        fields = ["client", "on", "starts", "notes"]
        labels = {"on": "Day", "starts": "Time"}
        widgets = {
            "on": forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"),
            "starts": forms.TimeInput(attrs={"type": "time"}, format="%H:%M"),
            "notes": forms.Textarea(attrs={"rows": 2}),
        }

    field_order = ["client", "new_client", "on", "starts", "notes"]

    def __init__(self, *args, firm_id: int, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        self.firm_id = firm_id
        self.fields["client"].queryset = Client.objects.of_firm(firm_id).order_by("name")
        self.fields["client"].required = False
        self.fields["client"].empty_label = "choose"

    def clean(self) -> dict[str, object]:
        """Want one client, known or new."""
        cleaned = super().clean() or {}
        known, new = cleaned.get("client"), (cleaned.get("new_client") or "").strip()
        if known is None and not new:
            self.add_error("client", "Choose a client, or type the name of a new one.")
        if new and Client.objects.of_firm(self.firm_id).filter(name=new).exists():
            self.add_error("new_client", f"{new} is a client already: choose it from the list.")
        return cleaned


class TuningForm(forms.Form):
    """A tuning, of a display that is known or of a new one."""

    display = forms.ModelChoiceField(Display.objects.none(), required=False, empty_label="a new one, below")
    room = forms.CharField(max_length=80, required=False)
    maker = forms.CharField(max_length=60, required=False)
    model = forms.CharField(max_length=60, required=False)
    serial = forms.CharField(max_length=60, required=False)
    technology = forms.ChoiceField(choices=Technology.choices, initial=Technology.LCD)
    menu = forms.ChoiceField(label="Menu")
    picture_mode = forms.CharField(max_length=60, label="Picture mode", help_text="as the display calls it")
    purpose = forms.ChoiceField(choices=Purpose.choices)
    signal = forms.ChoiceField(choices=list(SIGNALS.items()), required=False)
    target_name = forms.ChoiceField(choices=NAMED_TARGETS, label="Target")
    luminance = forms.FloatField(
        required=False,
        min_value=5,
        max_value=5000,
        label="White, cd/m²",
        help_text="100–120 at night, about 200 by day",
    )
    tolerance = forms.FloatField(min_value=0.1, max_value=10, initial=1.0, help_text="CIEDE2000")

    def __init__(self, *args, visit: Visit, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        self.fields["display"].queryset = Display.objects.filter(room__client=visit.client).select_related("room")
        self.fields["display"].label_from_instance = lambda d: f"{d.room.name}: {d.name}"
        known = [
            (f"map-{m.pk}", f"as before: {m}")
            for m in MenuMap.objects.of_firm(visit.firm_id).order_by("maker", "model")
        ]
        # Never the first of another model's: its own, where one is known, else it is read or typed at Arrival.
        self.fields["menu"].choices = [
            ("own", "of its own model, if one is known; else at Arrival"), *known,
            *((f"shape-{s.id}", s.label) for s in SHAPES.values()), ("later", "read or typed at Arrival"),
        ]  # fmt: skip

    def clean(self) -> dict[str, object]:
        """Want a display, known or with room and model."""
        cleaned = super().clean() or {}
        if cleaned.get("display") is None:
            for name, words in (("room", "the room it stands in"), ("model", "its model")):
                if not (cleaned.get(name) or "").strip():
                    self.add_error(name, f"A new display needs {words}.")
        if cleaned.get("target_name"):
            _refuse_clash(self, cleaned)
        return cleaned


class PlainNumbers:
    """Shows 55 and not 55.0."""

    def __init__(self, *args, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        for name, value in self.initial.items():  # type: ignore[attr-defined]
            if isinstance(value, float) and value.is_integer():
                self.initial[name] = int(value)  # type: ignore[attr-defined]


class RoomForm(PlainNumbers, forms.ModelForm):
    """A room."""

    class Meta:
        model = Room
        fields = ["name", "lux_day", "lux_night", "seating_m", "surround", "notes"]
        labels = {
            "lux_day": "Light by day, lux", "lux_night": "Light at night, lux", "seating_m": "Seats to screen, m",
            "surround": "Around the screen",
        }  # fmt: skip
        help_texts = {"surround": "wall and its colour, a lamp behind"}
        widgets = {"notes": forms.Textarea(attrs={"rows": 2})}


class DisplayForm(PlainNumbers, forms.ModelForm):
    """A display; what feeds it is typed a line each, the input or app first."""

    feeds = forms.CharField(
        required=False, widget=forms.Textarea(attrs={"rows": 4}), label="What feeds which input and app",
        help_text="a line each, such as HDMI 1: disc player",
    )  # fmt: skip

    class Meta:
        model = Display
        fields = ["maker", "model", "serial", "technology", "size_in", "hours", "screen_gain", "link", "notes"]
        labels = {
            "size_in": "Size, inches", "hours": "Hours on", "screen_gain": "Screen gain, of a projector", "link": "Network control",
        }  # fmt: skip
        widgets = {"notes": forms.Textarea(attrs={"rows": 2})}

    field_order = [
        "maker",
        "model",
        "serial",
        "technology",
        "size_in",
        "hours",
        "screen_gain",
        "link",
        "feeds",
        "notes",
    ]

    def __init__(self, *args, firm_id: int, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        self.fields["link"].queryset = Device.objects.of_firm(firm_id).filter(role=DeviceRole.DISPLAY).order_by("name")
        self.fields["link"].empty_label = "by its serial, or none"
        self.fields["link"].label_from_instance = lambda d: f"{d.name} {d.serial}"
        if self.instance.pk:
            self.initial["feeds"] = "\n".join(
                f"{feed.through}: {feed.what}" if feed.what else feed.through for feed in self.instance.feeds.all()
            )

    def clean_feeds(self) -> list[tuple[str, str]]:
        """Return inputs and apps with what comes through them."""
        rows: list[tuple[str, str]] = []
        for line in self.cleaned_data["feeds"].splitlines():
            if not line.strip():
                continue
            through, _, what = line.partition(":")
            through, what = through.strip()[:60], what.strip()[:120]
            if not through:
                raise forms.ValidationError(f"“{line.strip()[:40]}” names no input: write it as HDMI 1: disc player.")
            if through.lower() in {known.lower() for known, _ in rows}:
                raise forms.ValidationError(f"{through} is there twice; one line for each input or app.")
            rows.append((through, what))
        if len(rows) > 40:
            raise forms.ValidationError("A display has at most 40 inputs and apps here.")
        return rows


def _refuse_clash(form: forms.Form, cleaned: dict[str, Any], field: str = "target_name") -> None:
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
    primaries = forms.ChoiceField(
        choices=[*((n, w) for n, (w, _) in PRIMARIES.items()), ("own", "own")], required=False
    )
    own = forms.CharField(required=False, label="Own primaries", help_text="x y of red, green, blue: six numbers")
    white = forms.CharField(required=False, label="White, x y", help_text="empty for D65")
    curve = forms.ChoiceField(choices=list(FREE_CURVES.items()), required=False)
    gamma = forms.FloatField(required=False, min_value=1.0, max_value=4.0)

    PLAIN = (
        "name", "picture_mode", "purpose", "signal", "target_name", "luminance", "tolerance", "roll_off", "mastered",
        "mastered_least",
    )  # fmt: skip
    FREE = ("primaries", "own", "white", "curve", "gamma")

    def __init__(self, *args, tuning: Tuning, **kwargs) -> None:  # type: ignore[no-untyped-def]
        free = tuning.free or {"primaries": "bt709", "curve": "power", "gamma": 2.4}
        own = free["primaries"] if not isinstance(free["primaries"], str) else None
        initial = {
            name: getattr(tuning, name)
            for name in self.PLAIN
        } | {
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
        if cleaned.get("target_name") != "free":
            if cleaned.get("signal") and cleaned.get("target_name"):
                _refuse_clash(self, cleaned)
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
            _refuse_clash(self, cleaned, "curve")
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
