"""Changes of controls and what was learned."""

from django.apps import AppConfig


class AdjustingConfig(AppConfig):
    name = "fenvik.web.adjusting"
