"""Firms and the people in them."""

from django.apps import AppConfig


class PeopleConfig(AppConfig):
    name = "fenvik.web.people"
