"""Whites chosen by the client, a mode's own shift, two displays brought together by eye."""

from importlib import import_module

from django.apps import AppConfig


class WhitesConfig(AppConfig):
    name = "fenvik.web.whites"

    def ready(self) -> None:
        """Add the reading of shifts to the kinds of pass."""
        import_module("fenvik.web.whites.kind")
