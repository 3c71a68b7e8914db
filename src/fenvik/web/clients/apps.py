"""Clients, rooms, displays."""

from django.apps import AppConfig


class ClientsConfig(AppConfig):
    name = "fenvik.web.clients"
