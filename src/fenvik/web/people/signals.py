"""Keeps who is signed in where; the live pages of whoever is deactivated end, by whatever way that happens."""

from typing import Any

from django.contrib.auth.signals import user_logged_in, user_logged_out
from django.db.models.signals import post_save
from django.dispatch import receiver

from fenvik.web.kit.notify import notify_ended
from fenvik.web.people.log import enter
from fenvik.web.people.models import SignedIn, User


@receiver(post_save, sender=User, dispatch_uid="end-pages")
def end_pages(sender: object, instance: User, **_: object) -> None:
    """End the live pages of whoever may no longer see them."""
    if not instance.is_active:
        notify_ended(person_id=instance.pk)


@receiver(user_logged_in, dispatch_uid="signed-in")
def signed_in(sender: object, request: Any, user: Any, **_: object) -> None:
    """Keep that somebody is signed in, and from where."""
    if request.session.session_key is None:
        request.session.save()
    told = {
        "person": user, "address": (request.META.get("REMOTE_ADDR") or "")[:45],
        "browser": request.META.get("HTTP_USER_AGENT", "")[:200],
    }  # fmt: skip
    SignedIn.objects.update_or_create(session_key=request.session.session_key, defaults=told)
    enter(user, "signed in", about=told["address"])


@receiver(user_logged_out, dispatch_uid="signed-out")
def signed_out(sender: object, request: Any, user: Any, **_: object) -> None:
    """Keep that somebody is signed in no longer."""
    SignedIn.objects.filter(session_key=request.session.session_key or "").delete()
