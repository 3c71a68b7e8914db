"""Handovers."""

from django.apps import AppConfig


class HandoversConfig(AppConfig):
    name = "fenvik.web.handovers"
