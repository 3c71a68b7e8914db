"""Firms and the people in them."""

import secrets
from datetime import datetime, timedelta

from django.contrib.auth.models import AbstractUser
from django.db import models
from django.utils import timezone

LINK_LASTS = timedelta(days=7)


def loopback_only() -> list[str]:
    """Return the networks that a new firm's devices may be in."""
    return ["127.0.0.0/8", "::1/128"]


def new_token() -> str:
    """Return a token that cannot be guessed."""
    return secrets.token_urlsafe(32)


def some_days() -> datetime:
    """Return until when a link that is made now is good."""
    return timezone.now() + LINK_LASTS


class Firm(models.Model):
    name = models.CharField(max_length=120)
    networks = models.JSONField(default=loopback_only)
    time_zone = models.CharField(max_length=60, blank=True)  # such as Europe/Helsinki; empty: the installation's

    def __str__(self) -> str:
        return self.name


class Role(models.TextChoices):
    OWNER = "owner", "owner"
    CALIBRATOR = "calibrator", "calibrator"
    OFFICE = "office", "office"


class User(AbstractUser):
    firm = models.ForeignKey(Firm, on_delete=models.PROTECT, related_name="people")
    role = models.CharField(max_length=12, choices=Role.choices, default=Role.CALIBRATOR)

    REQUIRED_FIELDS = ["email", "firm_id"]

    @property
    def called(self) -> str:
        """The name that people see."""
        return self.get_full_name() or self.username


class Link(models.Model):
    """A link that an owner hands on by their own means: it lets somebody join the firm, or ``person`` set a new password."""

    firm = models.ForeignKey(Firm, on_delete=models.CASCADE, related_name="links")
    token = models.CharField(max_length=60, unique=True, default=new_token)
    person = models.ForeignKey(User, null=True, on_delete=models.CASCADE, related_name="links")
    name = models.CharField(max_length=120, blank=True)
    role = models.CharField(max_length=12, choices=Role.choices, default=Role.CALIBRATOR)
    made_by = models.ForeignKey(User, null=True, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField(default=timezone.now)
    until = models.DateTimeField(default=some_days)
    used_at = models.DateTimeField(null=True)


class SignedIn(models.Model):
    """A session of a person: where and since when. ``session_key`` is never shown."""

    person = models.ForeignKey(User, on_delete=models.CASCADE, related_name="signed_in")
    session_key = models.CharField(max_length=40, unique=True)
    address = models.CharField(max_length=45, blank=True)
    browser = models.CharField(max_length=200, blank=True)
    at = models.DateTimeField(default=timezone.now)

    @property
    def machine(self) -> str:
        """What the browser says that it runs on."""
        return self.browser.partition("(")[2].partition(")")[0][:60]


class LogEntry(models.Model):
    """One line of who did what. The database refuses to change or delete it."""

    firm = models.ForeignKey(Firm, on_delete=models.PROTECT, related_name="+")
    person = models.ForeignKey(User, on_delete=models.PROTECT, related_name="+")
    did = models.CharField(max_length=120)
    about = models.CharField(max_length=200, blank=True)
    kind = models.CharField(max_length=40, blank=True)
    thing_id = models.BigIntegerField(null=True)
    at = models.DateTimeField()

    class Meta:
        indexes = [models.Index(fields=["firm", "-at"])]
