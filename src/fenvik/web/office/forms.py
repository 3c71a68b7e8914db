"""Forms of the office: clients, visits, tunings with their displays."""

from typing import Any

from django import forms

from fenvik.web.clients.models import Client, Display, Technology
from fenvik.web.controls.models import MenuMap
from fenvik.web.controls.shapes import SHAPES
from fenvik.web.kit.forms import PlainNumbers, rows_of
from fenvik.web.planning.wording import WordsError, read
from fenvik.web.visits.aimed import SIGNALS
from fenvik.web.visits.forms import NAMED_TARGETS, refuse_clash
from fenvik.web.visits.models import Purpose, Visit


class ClientForm(forms.ModelForm):  # type: ignore[type-arg]
    """A client."""

    class Meta:
        model = Client
        fields = ["name", "contact", "phone", "email", "address", "notes"]
        widgets = {"notes": forms.Textarea(attrs={"rows": 3})}


PLAN_WORDS = forms.Textarea(attrs={
    "rows": 9, "spellcheck": "false", "class": "in-words", "placeholder":
    "Lounge: Skerry W65, OLED\nFilm, night, 100\nFilm, day\nFilm HDR, HDR10\nSnug: Orrefall 55, LCD, OF55-0417\nGame",
})  # fmt: skip


class VisitForm(forms.ModelForm):  # type: ignore[type-arg]
    """A visit: to a client who is known, or to a new one."""

    new_client = forms.CharField(max_length=120, required=False, label="or a new client")
    words = forms.CharField(required=False, label="Displays and tunings, in words", widget=PLAN_WORDS)

    class Meta:
        model = Visit
        fields = ["client", "on", "starts", "notes"]
        labels = {"on": "Day", "starts": "Time"}
        widgets = {
            "on": forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"),
            "starts": forms.TimeInput(attrs={"type": "time"}, format="%H:%M"),
            "notes": forms.Textarea(attrs={"rows": 2}),
        }

    field_order = ["client", "new_client", "on", "starts", "notes", "words"]

    def __init__(self, *args, firm_id: int, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        self.firm_id = firm_id
        rows_of(self, "client").queryset = Client.objects.of_firm(firm_id).order_by("name")
        self.fields["client"].required = False
        rows_of(self, "client").empty_label = "choose"
        chosen = self.initial.get("client")
        first = "words" if chosen else "client" if rows_of(self, "client").queryset.exists() else "new_client"
        self.fields[first].widget.attrs["autofocus"] = True

    def clean(self) -> dict[str, object]:
        """Want one client, known or new."""
        cleaned = super().clean() or {}
        known, new = cleaned.get("client"), (cleaned.get("new_client") or "").strip()
        if known is None and not new:
            self.add_error("client", "Choose a client, or type the name of a new one.")
        if known is not None and new:
            self.add_error("new_client", f"{known} is chosen above. Empty one of the two: whose visit is it?")
        elif new and Client.objects.of_firm(self.firm_id).filter(name=new).exists():
            self.add_error("new_client", f"{new} is a client already: choose it from the list.")
        _understood(self, cleaned)
        return cleaned


class WordsForm(forms.Form):
    """Displays and tunings of a visit, in words."""

    words = forms.CharField(
        label="Displays and tunings, in words", widget=PLAN_WORDS, error_messages={"required": "Type a display and its modes."}
    )

    def clean(self) -> dict[str, object]:
        """Want words that are understood."""
        cleaned = super().clean() or {}
        _understood(self, cleaned)
        return cleaned


def _understood(form: forms.BaseForm, cleaned: dict[str, Any]) -> None:
    try:
        read(cleaned.get("words") or "")
    except WordsError as problem:
        form.add_error("words", str(problem))


class MoveForm(forms.Form):
    """On which day a visit is, and at what time."""

    on = forms.DateField(
        label="Day", widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"),
        error_messages={"required": "Which day?", "invalid": "That is not a day; write it as 2027-03-04."},
    )  # fmt: skip
    starts = forms.TimeField(
        label="Time", required=False, widget=forms.TimeInput(attrs={"type": "time"}, format="%H:%M"),
        error_messages={"invalid": "That is not a time; write it as 14:30."},
    )  # fmt: skip
    notes = forms.CharField(required=False, widget=forms.Textarea(attrs={"rows": 2}))


class TuningForm(PlainNumbers, forms.Form):
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
        rows_of(self, "display").queryset = Display.objects.filter(room__client=visit.client).select_related("room")
        rows_of(self, "display").label_from_instance = lambda d: f"{d.room.name}: {d.name}"
        known = [
            (f"map-{m.pk}", f"as before: {m}")
            for m in MenuMap.objects.of_firm(visit.firm_id).order_by("maker", "model")
        ]
        # Never the first of another model's: its own, where one is known, else it is read or typed at Arrival.
        rows_of(self, "menu").choices = [
            ("own", "as its model’s, or at Arrival"), *known,
            *((f"shape-{s.id}", s.label) for s in SHAPES.values()), ("later", "read or typed at Arrival"),
        ]  # fmt: skip

    def clean(self) -> dict[str, object]:
        """Want a display, known or with room and model."""
        cleaned = super().clean() or {}
        typed = [name for name in ("room", "maker", "model", "serial") if (cleaned.get(name) or "").strip()]
        if cleaned.get("display") is not None and typed:
            self.add_error("display", f"{cleaned['display']} is chosen, and a new display is typed below. Which of the two is it?")
        if cleaned.get("display") is None:
            for name, words in (("room", "the room it stands in"), ("model", "its model")):
                if not (cleaned.get(name) or "").strip():
                    self.add_error(name, f"A new display needs {words}.")
        if cleaned.get("target_name"):
            refuse_clash(self, cleaned)
        return cleaned
