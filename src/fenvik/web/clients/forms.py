"""Forms of what a client has: rooms, and the displays in them."""

from django import forms

from fenvik.web.clients.models import Display, Room
from fenvik.web.kit.forms import PlainNumbers, rows_of


class RoomForm(PlainNumbers, forms.ModelForm):  # type: ignore[type-arg]
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


class DisplayForm(PlainNumbers, forms.ModelForm):  # type: ignore[type-arg]
    """A display; what feeds it is typed a line each, the input or app first."""

    feeds = forms.CharField(
        required=False, widget=forms.Textarea(attrs={"rows": 4}), label="What feeds which input and app",
        help_text="a line each, such as HDMI 1: disc player",
    )  # fmt: skip

    class Meta:
        model = Display
        fields = ["maker", "model", "serial", "technology", "size_in", "hours", "screen_gain", "link", "questions", "notes"]
        labels = {
            "size_in": "Size, inches", "hours": "Hours on", "screen_gain": "Screen gain, of a projector", "link": "Network control",
            "questions": "Questions to keep open",
        }  # fmt: skip
        widgets = {"notes": forms.Textarea(attrs={"rows": 2}), "questions": forms.Textarea(attrs={"rows": 2})}
        help_texts = {"questions": "shown at the next visit"}

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
        "questions",
        "notes",
    ]

    def __init__(self, *args, firm_id: int, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        link = rows_of(self, "link")
        link.queryset = link.queryset.of_firm(firm_id).filter(role="display").order_by("name")
        link.empty_label = "by its serial, or none"
        link.label_from_instance = lambda d: f"{d.name} {d.serial}"
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
