"""Passes and readings."""

from django.apps import AppConfig


class PassesConfig(AppConfig):
    name = "fenvik.web.passes"
