"""The app."""

from importlib import import_module

from django.apps import AppConfig


class CorrectionsConfig(AppConfig):
    name = "fenvik.web.corrections"

    def ready(self) -> None:
        """Let the correction that fits be in force when a pass starts."""
        import_module("fenvik.web.corrections.kind")
