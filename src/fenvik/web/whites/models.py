"""A choice between whites as it went, and two displays brought together by eye."""

from typing import Any

from django.db import models

from fenvik.core.measure.blind import Verdict, verdict
from fenvik.web.kit.models import FirmModel


class Way(models.TextChoices):
    HALVES = "halves", "side by side"
    TURNS = "turns", "one after the other"


class WhiteTrial(FirmModel):
    """Whites shown to a client: ``candidates`` with name, why and offset in u′v′; ``rounds`` with the order and the pick.

    ``place``: which one of the round's order is shown, None while the eye rests on grey; ``showing`` while it is put on the screen.
    ``chosen`` is one of the candidates, None where they could not be told apart.
    """

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="white_trials")
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)
    candidates = models.JSONField()
    way = models.CharField(max_length=8, choices=Way.choices, default=Way.TURNS)
    blind = models.BooleanField(default=True)
    shows = models.CharField(max_length=8, default="scene")
    read_by = models.ForeignKey("passes.Pass", null=True, on_delete=models.PROTECT, related_name="+")  # each as it was read
    rounds = models.JSONField(default=list)
    place = models.PositiveSmallIntegerField(null=True)
    showing = models.BooleanField(default=False)
    chosen = models.PositiveSmallIntegerField(null=True)
    ended_at = models.DateTimeField(null=True)
    words = models.CharField(max_length=200, blank=True)

    class Meta:
        indexes = [models.Index(fields=["tuning", "id"])]

    @property
    def picks(self) -> list[int | None]:
        """What was picked in the rounds that are over; None for no difference."""
        return [told["pick"] for told in self.rounds if "pick" in told]

    @property
    def verdict(self) -> Verdict:
        """What the rounds so far come to."""
        return verdict(self.picks, len(self.candidates))

    @property
    def step(self) -> str:
        """Where it stands: what a page that is told to go on must have seen."""
        seen = self.rounds[-1]["seen"] if self.order else "-"
        return f"{len(self.rounds)}.{seen}.{'-' if self.place is None else self.place}"

    @property
    def order(self) -> list[int]:
        """The order of the round that goes on."""
        order: list[int] = self.rounds[-1]["order"] if self.rounds and "pick" not in self.rounds[-1] else []
        return order

    @property
    def winner(self) -> dict[str, Any] | None:
        """The candidate that was chosen."""
        return None if self.chosen is None else self.candidates[self.chosen]


class WhiteMatch(FirmModel):
    """A display whose white is stepped by eye until it looks like a reference's: ``tries`` with where each began, is and ended."""

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="white_matches")
    reference = models.ForeignKey("clients.Display", on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)
    level = models.FloatField()  # percent of signal at which both are looked at
    tries = models.JSONField(default=list)
    du = models.FloatField(null=True)
    dv = models.FloatField(null=True)
    spread = models.FloatField(null=True)  # one deviation of a try, in u′v′
    ended_at = models.DateTimeField(null=True)

    class Meta:
        indexes = [models.Index(fields=["tuning", "id"])]

    @property
    def trying(self) -> dict[str, Any] | None:
        """The try that goes on."""
        return next((told for told in self.tries if "end" not in told), None)
