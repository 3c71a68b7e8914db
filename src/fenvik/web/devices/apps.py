"""Meters and sources."""

from django.apps import AppConfig


class DevicesConfig(AppConfig):
    name = "fenvik.web.devices"
