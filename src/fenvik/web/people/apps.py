"""Firms and the people in them."""

from typing import Any

from django.apps import AppConfig
from django.db.models.signals import post_save

from fenvik.web.kit.notify import notify_ended


def _end_pages(sender: object, instance: Any, **_: object) -> None:
    if not instance.is_active:
        notify_ended(person_id=instance.pk)


class PeopleConfig(AppConfig):
    name = "fenvik.web.people"

    def ready(self) -> None:
        """Let the live pages of whoever is deactivated end, by whatever way that happens."""
        post_save.connect(_end_pages, sender=self.get_model("User"), dispatch_uid="end-pages")
