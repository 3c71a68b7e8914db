"""The forms of the stop Instruments."""

from typing import Any

from django import forms
from django.db.models import Q

from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.kit.forms import PlainNumbers
from fenvik.web.visits.models import Tuning


class MeasureForm(PlainNumbers, forms.ModelForm):  # type: ignore[type-arg] # generic to the stubs alone
    """How a tuning is measured."""

    class Meta:
        model = Tuning
        fields = [
            "meter", "source", "effort", "average", "settle_s", "settles", "low_below", "low_average", "low_effort",
            "window", "surround", "bits", "signal_range", "frame_rate",
        ]  # fmt: skip
        labels = {
            "meter": "Meter",
            "source": "Pattern source",
            "effort": "Effort",
            "average": "Averaged",
            "settle_s": "Settle, s",
            "settles": "then",
            "low_below": "Below, cd/m²",
            "low_average": "Averaged there",
            "low_effort": "Effort there",
            "window": "Window, %",
            "surround": "Surround, %",
            "bits": "Code values",
            "signal_range": "Range",
            "frame_rate": "Rate, Hz",
        }

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        mine = Device.objects.of_firm(self.instance.visit.firm_id).order_by("name")
        mine = mine.filter(Q(screen__isnull=True) | Q(screen__visit_id=self.instance.visit_id))
        for role in (DeviceRole.METER, DeviceRole.SOURCE):
            chosen = getattr(self.instance, f"{role.value}_id")
            choice = self.fields[role.value]
            assert isinstance(choice, forms.ModelChoiceField)
            choice.queryset = mine.filter(role=role).filter(Q(removed_at__isnull=True) | Q(pk=chosen))
            choice.empty_label = "none yet"
        efforts = [] if self.instance.meter is None else self.instance.meter.facts.get("efforts", [])
        for name, usual in (("effort", "its usual"), ("low_effort", "as above")):
            # Which efforts there are is the meter's business: a meter that is chosen in the same moment has others.
            self.fields[name].widget = forms.Select(choices=[("", usual), *((e, e) for e in efforts)])
        self.fields["low_below"].help_text = "0: never read again"
        self.fields["frame_rate"].widget.attrs["placeholder"] = "its own"

    @property
    def parts(self) -> list[tuple[str, list[Any]]]:
        """The fields in groups."""
        groups = {
            "With what": ("meter", "source"),
            "How it reads": ("effort", "average", "settle_s", "settles"),
            "In the dark, once more": ("low_below", "low_average", "low_effort"),
            "What is shown": ("window", "surround", "bits", "signal_range", "frame_rate"),
        }
        return [(title, [self[name] for name in names]) for title, names in groups.items()]

    def clean(self) -> dict[str, object]:
        """Hold the code values against what the source can send, and efforts against what the meter has."""
        cleaned = super().clean() or {}
        source, meter, bits = cleaned.get("source"), cleaned.get("meter"), cleaned.get("bits")
        if source is not None and bits not in source.facts.get("bits", []):
            self.add_error("bits", f"{source.name} does not send {bits} bit.")
        rate = cleaned.get("frame_rate")
        rates = [] if source is None else source.facts.get("frame_rates", [])
        if source is not None and rate is not None and rates and not any(abs(rate - float(each)) < 0.01 for each in rates):
            said = ", ".join(f"{float(each):g}" for each in rates)
            self.add_error("frame_rate", f"{source.name} sends {said} Hz.")
        efforts = [] if meter is None else meter.facts.get("efforts", [])
        for name in ("effort", "low_effort"):
            if cleaned.get(name) and cleaned[name] not in efforts:
                cleaned[name] = ""
        return cleaned
