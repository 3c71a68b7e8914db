"""Menu maps and settings sheets."""

from django.apps import AppConfig


class MenusConfig(AppConfig):
    name = "fenvik.web.menus"
