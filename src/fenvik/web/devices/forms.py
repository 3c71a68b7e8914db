"""Forms of instruments without a link."""

from django import forms

from fenvik.formats.typed import ORDERS
from fenvik.web.kit.forms import PlainNumbers


class KeyedMeterForm(PlainNumbers, forms.Form):
    """A meter whose values are typed."""

    name = forms.CharField(max_length=80, label="What it is called")
    serial = forms.CharField(max_length=60, required=False, label="Serial")
    kind = forms.ChoiceField(
        choices=[("colorimeter", "colorimeter"), ("spectroradiometer", "spectroradiometer")], label="Kind"
    )
    floor = forms.FloatField(min_value=0.0001, max_value=10, initial=0.01, label="Reads down to, cd/m²")
    order = forms.ChoiceField(choices=list(ORDERS.items()), initial="Yxy", label="It shows")


class KeyedSourceForm(forms.Form):
    """A source whose patches a person shows."""

    name = forms.CharField(max_length=80, label="What it is called", help_text="a disc, a player, a generator without a link")
    range = forms.ChoiceField(choices=[("limited", "limited"), ("full", "full")], label="Range of its code values")
