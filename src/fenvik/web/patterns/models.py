"""What is shown during a visit, and the page that shows it on whatever drives the display."""

import secrets
from datetime import datetime, timedelta
from typing import Self

from django.db import models
from django.utils import timezone

from fenvik.web.kit.models import FirmModel, FirmQuerySet

LASTS, AFTERWARDS = timedelta(days=3), timedelta(hours=12)  # since it was asked for, and after the handover
HEARD_WITHIN = timedelta(seconds=25)  # the page says that it is there every ten


def new_token() -> str:
    """Return a token that cannot be guessed."""
    return secrets.token_urlsafe(32)


def some_days() -> datetime:
    """Return until when the address of a screen that is asked for now is good: a visit, and what may be left for the day after."""
    return timezone.now() + LASTS


class ScreenQuerySet(FirmQuerySet["Screen"]):
    """Screens, and which of them their addresses still open."""

    def open_at(self, now: datetime) -> Self:
        """Return those whose address is good."""
        return self.filter(withdrawn_at__isnull=True, until__gt=now)


class DriverRange(models.TextChoices):
    FULL = "full", "full: 0 is black, 255 is white"
    LIMITED = "limited", "limited: 16 is black, 235 is white"


class Screen(FirmModel):
    """The pattern screen of a visit. ``picture`` is what is to be shown, ``revision`` its number, ``shown`` the last one drawn.

    ``token`` opens the page without signing in, since whatever drives the display is seldom one's own; ``number`` is typed
    there to find it, once and for a few minutes.
    """

    firm_path = "visit__firm_id"
    objects = ScreenQuerySet.as_manager()  # type: ignore[misc]
    visit = models.OneToOneField("visits.Visit", on_delete=models.CASCADE, related_name="screen")
    device = models.OneToOneField("devices.Device", on_delete=models.CASCADE, related_name="screen")
    token = models.CharField(max_length=60, unique=True, default=new_token)
    number = models.CharField(max_length=12, blank=True)
    number_until = models.DateTimeField(null=True)
    driver_range = models.CharField(max_length=8, choices=DriverRange.choices, default=DriverRange.FULL)
    range_known = models.BooleanField(default=False)
    colours = models.CharField(max_length=20, blank=True)  # whose colours patterns are drawn in: one of the core's COLOURS
    picture = models.JSONField(default=dict)
    revision = models.PositiveIntegerField(default=0)
    shown = models.PositiveIntegerField(default=0)
    size = models.CharField(max_length=20, blank=True)
    exact = models.BooleanField(
        default=True
    )  # one pixel of the page is one of the screen's, as far as the browser tells
    awake = models.BooleanField(default=False)  # the browser keeps the display from falling asleep
    refresh_hz = models.FloatField(null=True)  # of the screen that the page is on, as the browser draws
    identity = models.PositiveIntegerField(default=0)  # rises when it is asked to say which visit it belongs to
    seen_at = models.DateTimeField(null=True)
    withdrawn_at = models.DateTimeField(null=True)
    until = models.DateTimeField(default=some_days)  # its address opens nothing any more; asked for again, it lasts anew

    @property
    def is_open(self) -> bool:
        """Whether the page has been heard of lately."""
        return self.seen_at is not None and timezone.now() - self.seen_at < HEARD_WITHIN

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["number"], condition=~models.Q(number=""), name="screen_number_once")
        ]


class LookedAt(FirmModel):
    """A pattern that was looked at, with the control that was set by it, if one was."""

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="looked")
    pattern = models.CharField(max_length=40)
    step = models.CharField(max_length=40, blank=True)
    control = models.CharField(max_length=80, blank=True)
    label = models.CharField(max_length=120, blank=True)
    note = models.CharField(max_length=200, blank=True)  # what was seen, in words
    before = models.JSONField(null=True)
    after = models.JSONField(null=True)
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)

    class Meta:
        db_table = "groundwork_lookedat"  # as it was called before it moved here
        indexes = [models.Index(fields=["tuning", "id"], name="groundwork__tuning__02ddeb_idx")]
