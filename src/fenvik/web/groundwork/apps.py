"""Checks before measuring, levels by eye, warm-up."""

from importlib import import_module

from django.apps import AppConfig


class GroundworkConfig(AppConfig):
    name = "fenvik.web.groundwork"

    def ready(self) -> None:
        """Add surveys to the kinds of pass."""
        import_module("fenvik.web.groundwork.kind")
