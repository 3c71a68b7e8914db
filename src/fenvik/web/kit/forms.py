"""What forms share: numbers as a person writes them."""

from typing import Any

from django import forms


class PlainNumber(forms.NumberInput):
    """A number as a person writes it: 10 and not 10.0."""

    def format_value(self, value: Any) -> str | None:
        """Return the number without a zero behind the point."""
        return f"{value:g}" if isinstance(value, float) else super().format_value(value)


class PlainNumbers:
    """Shows 55 and not 55.0."""

    def __init__(self, *args, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        for name, value in self.initial.items():  # type: ignore[attr-defined]
            if isinstance(value, float) and value.is_integer():
                self.initial[name] = int(value)  # type: ignore[attr-defined]
