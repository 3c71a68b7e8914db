"""Changes of controls and what was learned."""

from importlib import import_module

from django.apps import AppConfig


class AdjustingConfig(AppConfig):
    name = "fenvik.web.adjusting"

    def ready(self) -> None:
        """Add hands-free runs to the kinds of pass."""
        import_module("fenvik.web.adjusting.kind")
