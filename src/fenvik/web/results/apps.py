"""What readings amount to."""

from importlib import import_module

from django.apps import AppConfig


class ResultsConfig(AppConfig):
    name = "fenvik.web.results"

    def ready(self) -> None:
        """Store the figures of each pass that ends."""
        import_module("fenvik.web.results.kind")
