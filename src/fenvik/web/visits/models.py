"""Visits and tunings: the units of work."""

from dataclasses import dataclass, replace
from typing import Any

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models

from fenvik.core.colour.target import Target
from fenvik.core.colour.unread import unread
from fenvik.web.kit.models import FirmModel, PutAwayModel
from fenvik.web.visits.aimed import SIGNALS, Aim
from fenvik.web.visits.measured import Measuring


def first_lists(signal: str = "sdr") -> dict[str, Any]:
    """Return what a tuning reads unless it is told otherwise: in HDR colours that pictures have too."""
    return {"chosen": ["grey-11", "colours-100"] + (["p3"] if signal != "sdr" else [])}


class Visit(PutAwayModel):
    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    client = models.ForeignKey("clients.Client", on_delete=models.PROTECT, related_name="visits")
    on = models.DateField()
    starts = models.TimeField(null=True, blank=True)
    calibrator = models.ForeignKey("people.User", null=True, blank=True, on_delete=models.PROTECT)
    notes = models.TextField(blank=True)
    cancelled_at = models.DateTimeField(null=True, editable=False)
    cancelled_why = models.CharField(max_length=200, blank=True)

    class Meta:
        indexes = [models.Index(fields=["firm", "-on"])]


class Purpose(models.TextChoices):
    NIGHT = "night", "night"
    DAY = "day", "day"
    GAME = "game", "game"
    FILM = "film", "film"


@dataclass(frozen=True)
class Place:
    """Where a person works at Adjust: the high and the low end of the white balance, in percent of signal, and at which."""

    high: float = 80.0
    low: float = 30.0
    end: str = "high"


# What is locked of a tuning: all its rows. Who waited for its own alone would read what another has just changed of its aim
# as it was before.
WHOLE = ("self", "aim", "measuring")


class Tuning(PutAwayModel, Aim, Measuring):  # type: ignore[misc]
    """One mode of one display at one visit. What it aims at and how it is measured are rows of their own, read and kept with it."""

    firm_path = "visit__firm_id"
    id = models.BigAutoField(primary_key=True)
    aim = models.OneToOneField(Aim, parent_link=True, on_delete=models.CASCADE, related_name="tuning")
    measuring = models.OneToOneField(Measuring, parent_link=True, on_delete=models.CASCADE, related_name="tuning")
    visit = models.ForeignKey(Visit, on_delete=models.PROTECT, related_name="tunings")
    display = models.ForeignKey("clients.Display", on_delete=models.PROTECT, related_name="tunings")
    name = models.CharField(max_length=80)
    picture_mode = models.CharField(max_length=60)
    mode_id = models.CharField(max_length=80, blank=True)  # the display's own name of the mode, on its link
    signal = models.CharField(max_length=8, choices=list(SIGNALS.items()), default="sdr")
    purpose = models.CharField(max_length=8, choices=Purpose.choices, default=Purpose.NIGHT)
    notes = models.TextField(blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    lists = models.JSONField(default=first_lists)  # which patch lists its next pass reads, and how they are put together
    corrects_curve = models.BooleanField(default=True)  # whether points change luminance too, and not the balance alone
    # Where whoever has loaded it works at Adjust: of a person and not of the tuning, so not of its row.
    place: Place = Place()
    # Of everything that hangs on it, where it was loaded for a page: what is made of it may be kept by this.
    version: tuple[str, int] | None = None

    class Meta:
        indexes = [models.Index(fields=["visit"])]

    def __str__(self) -> str:
        return self.name

    @property
    def sought(self) -> Target:
        """The target as it is adjusted to: with the black that is usual where this tuning's meter cannot read the display's."""
        return self.target if self.meter is None else self.read_by(self.meter.facts)

    def read_by(self, meter: dict[str, Any]) -> Target:
        """Return the target with what it takes a display's black for that this meter, by what it says of itself, cannot read."""
        made, link = self.target, self.display.link
        technology = self.display.technology if link is None else link.facts.get("technology", "")
        return replace(made, unread=unread(technology, float(meter["floor"])))


class WhiteCandidate(FirmModel):
    """A white that a firm offers: an offset in u′v′ from the standard's, why, and for which technology."""

    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    name = models.CharField(max_length=60)
    du = models.FloatField(validators=[MinValueValidator(-0.06), MaxValueValidator(0.06)])
    dv = models.FloatField(validators=[MinValueValidator(-0.06), MaxValueValidator(0.06)])
    why = models.CharField(max_length=120, blank=True)
    technology = models.CharField(max_length=24, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["firm", "name"], name="white_candidate_once_a_firm")]

    def __str__(self) -> str:
        return self.name
