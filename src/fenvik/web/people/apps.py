"""Firms and the people in them."""

from typing import Any

from django.apps import AppConfig
from django.contrib.auth.signals import user_logged_in, user_logged_out
from django.db.models.signals import post_save

from fenvik.web.kit.notify import notify_ended


def _end_pages(sender: object, instance: Any, **_: object) -> None:
    if not instance.is_active:
        notify_ended(person_id=instance.pk)


def _signed_in(sender: object, request: Any, user: Any, **_: object) -> None:
    from fenvik.web.people.log import enter
    from fenvik.web.people.models import SignedIn

    if request.session.session_key is None:
        request.session.save()
    told = {
        "person": user, "address": (request.META.get("REMOTE_ADDR") or "")[:45],
        "browser": request.META.get("HTTP_USER_AGENT", "")[:200],
    }  # fmt: skip
    SignedIn.objects.update_or_create(session_key=request.session.session_key, defaults=told)
    enter(user, "signed in", about=told["address"])


def _signed_out(sender: object, request: Any, user: Any, **_: object) -> None:
    from fenvik.web.people.models import SignedIn

    SignedIn.objects.filter(session_key=request.session.session_key or "").delete()


class PeopleConfig(AppConfig):
    name = "fenvik.web.people"

    def ready(self) -> None:
        """Keep who is signed in where; the live pages of whoever is deactivated end, by whatever way that happens."""
        post_save.connect(_end_pages, sender=self.get_model("User"), dispatch_uid="end-pages")
        user_logged_in.connect(_signed_in, dispatch_uid="signed-in")
        user_logged_out.connect(_signed_out, dispatch_uid="signed-out")
