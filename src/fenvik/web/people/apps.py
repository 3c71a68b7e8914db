"""Firms and the people in them."""

from importlib import import_module

from django.apps import AppConfig


class PeopleConfig(AppConfig):
    name = "fenvik.web.people"

    def ready(self) -> None:
        """Hear of who signs in and out."""
        import_module("fenvik.web.people.signals")
