"""The pattern screen and what is shown during a visit."""

from importlib import import_module

from django.apps import AppConfig


class PatternsConfig(AppConfig):
    name = "fenvik.web.patterns"

    def ready(self) -> None:
        """Make pattern screens sources of passes."""
        import_module("fenvik.web.patterns.kind")
