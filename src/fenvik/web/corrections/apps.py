"""The app."""

from django.apps import AppConfig


class CorrectionsConfig(AppConfig):
    name = "fenvik.web.corrections"
