"""Checks before measuring, levels by eye, warm-up."""

from django.apps import AppConfig


class GroundworkConfig(AppConfig):
    name = "fenvik.web.groundwork"
