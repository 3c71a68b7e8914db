"""Controls of displays: menu maps, settings sheets, what was turned."""

from django.apps import AppConfig


class ControlsConfig(AppConfig):
    name = "fenvik.web.controls"
    label = "menus"  # its tables and migrations have been called so since the first database
