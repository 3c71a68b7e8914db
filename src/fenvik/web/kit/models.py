"""What the apps' models have in common."""

from typing import Any, ClassVar, Self, TypeVar

from django.db import models
from django.shortcuts import get_object_or_404

Row_co = TypeVar("Row_co", bound=models.Model, covariant=True)


class FirmQuerySet(models.QuerySet[Row_co]):
    """Rows of one firm: every query of the web starts with ``of_firm``."""

    def of_firm(self, firm_id: int) -> Self:
        """Return the rows that a firm owns, found along the model's ``firm_path``."""
        return self.filter(**{self.model.firm_path: firm_id})  # type: ignore[attr-defined]


class FirmModel(models.Model):
    """A row that belongs to a firm; ``firm_path`` is the look-up that leads to it."""

    firm_path: ClassVar[str] = "firm_id"
    objects = FirmQuerySet.as_manager()

    class Meta:
        abstract = True


class PresentManager(models.Manager[Row_co]):
    """Rows that nobody has put away."""

    def get_queryset(self) -> FirmQuerySet[Row_co]:
        """Leave out what was put away."""
        return FirmQuerySet[Row_co](self.model, using=self._db).filter(put_away_at__isnull=True)

    def of_firm(self, firm_id: int) -> FirmQuerySet[Row_co]:
        """Return the rows that a firm owns and that are there."""
        return self.get_queryset().of_firm(firm_id)


class PutAwayModel(FirmModel):
    """A row that can be put away and taken back; ``objects`` has those that are there, ``everything`` all of them.

    What goes with it bears the same moment, so that it comes back with it.
    """

    put_away_at = models.DateTimeField(null=True, editable=False)
    objects = PresentManager()  # type: ignore[misc,assignment]
    everything = FirmQuerySet.as_manager()

    class Meta:
        abstract = True


class Sent(models.Model):
    """A form that was sent; ``to`` is where it led, empty while it is being done."""

    person = models.ForeignKey("people.User", on_delete=models.CASCADE, related_name="+")
    digest = models.CharField(max_length=64)
    to = models.CharField(max_length=2000, blank=True)
    by = models.CharField(max_length=120, blank=True)  # the machine and the process that does it
    at = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["person", "digest"], name="sent_once")]


def of_firm_or_404(model: Any, firm_id: int, pk: int, *related: str) -> Any:
    """Return a row of a firm, or answer 404: another firm's row does not exist."""
    return get_object_or_404(model.objects.of_firm(firm_id).select_related(*related), pk=pk)
