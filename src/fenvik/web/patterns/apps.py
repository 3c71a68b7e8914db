"""The pattern screen and what is shown during a visit."""

from django.apps import AppConfig


class PatternsConfig(AppConfig):
    name = "fenvik.web.patterns"
