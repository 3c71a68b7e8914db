"""The form of the stop Instruments."""

from django import forms
from django.db.models import Q

from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.visits.models import Tuning


class MeasureForm(forms.ModelForm):
    """How a tuning is measured."""

    class Meta:
        model = Tuning
        fields = ["meter", "source", "window", "settle_s", "average", "bits"]
        labels = {
            "meter": "Meter",
            "source": "Pattern source",
            "window": "Window, percent of the screen's area",
            "settle_s": "Settle, seconds",
            "average": "Readings averaged",
            "bits": "Code values",
        }

    def __init__(self, *args, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        mine = Device.objects.of_firm(self.instance.visit.firm_id).order_by("name")
        mine = mine.filter(Q(screen__isnull=True) | Q(screen__visit_id=self.instance.visit_id))
        for role in (DeviceRole.METER, DeviceRole.SOURCE):
            self.fields[role.value].queryset = mine.filter(role=role)
            self.fields[role.value].empty_label = "none yet"

    def clean(self) -> dict[str, object]:
        """Hold the code values against what the source can send."""
        cleaned = super().clean() or {}
        source, bits = cleaned.get("source"), cleaned.get("bits")
        if source is not None and bits not in source.facts.get("bits", []):
            self.add_error("bits", f"{source.name} does not send {bits} bit.")
        return cleaned
