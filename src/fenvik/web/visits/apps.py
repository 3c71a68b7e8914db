"""Visits and tunings."""

from django.apps import AppConfig


class VisitsConfig(AppConfig):
    name = "fenvik.web.visits"
