"""What pages share."""

from django.apps import AppConfig


class KitConfig(AppConfig):
    name = "fenvik.web.kit"
