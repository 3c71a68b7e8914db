"""What forms share: numbers as a person writes and types them."""

from typing import Any

from django import forms


def rows_of(form: forms.BaseForm, name: str) -> Any:
    """Return a form's field that chooses among rows of a table, for what it offers to be narrowed to a firm's own."""
    return form.fields[name]


class PlainText(forms.TextInput):
    """A number as a person writes it, typed as text: a browser drops "0,3" from a field of numbers without a word."""

    def format_value(self, value: Any) -> str | None:
        """Return the number without a zero behind the point."""
        return f"{value:g}" if isinstance(value, float) else super().format_value(value)


class PlainNumbers:
    """Shows 55 and not 55.0, and takes 0,3 as well as 0.3: so numbers are typed as text, which browsers do not drop."""

    def __init__(self, *args, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        broken = {}
        for name, field in self.fields.items():  # type: ignore[attr-defined]
            if not isinstance(field, forms.FloatField):
                continue
            kept = {k: v for k, v in field.widget.attrs.items() if k not in ("min", "max", "step")}
            field.widget = PlainText(attrs={**kept, "inputmode": "decimal", "autocomplete": "off"})
            told = self.data.get(self.add_prefix(name), "") if self.is_bound else ""  # type: ignore[attr-defined,has-type]
            if told.count(",") == 1 and "." not in told:
                broken[self.add_prefix(name)] = told.replace(",", ".")  # type: ignore[attr-defined]
        if broken:
            self.data = self.data.copy()  # type: ignore[has-type]
            for name, told in broken.items():
                self.data[name] = told
        for name, value in self.initial.items():  # type: ignore[attr-defined]
            if isinstance(value, float) and value.is_integer():
                self.initial[name] = int(value)  # type: ignore[attr-defined]
