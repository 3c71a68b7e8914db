"""The demo data."""

from django.apps import AppConfig


class DemoConfig(AppConfig):
    name = "fenvik.web.demo"
