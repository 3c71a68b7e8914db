"""What the apps' models have in common."""

from typing import Any, ClassVar, Self

from django.db import models
from django.shortcuts import get_object_or_404


class FirmQuerySet(models.QuerySet):
    """Rows of one firm: every query of the web starts with ``of_firm``."""

    def of_firm(self, firm_id: int) -> Self:
        """Return the rows that a firm owns, found along the model's ``firm_path``."""
        return self.filter(**{self.model.firm_path: firm_id})


class FirmModel(models.Model):
    """A row that belongs to a firm; ``firm_path`` is the look-up that leads to it."""

    firm_path: ClassVar[str] = "firm_id"
    objects = FirmQuerySet.as_manager()

    class Meta:
        abstract = True


def of_firm_or_404(model: Any, firm_id: int, pk: int, *related: str) -> Any:
    """Return a row of a firm, or answer 404: another firm's row does not exist."""
    return get_object_or_404(model.objects.of_firm(firm_id).select_related(*related), pk=pk)
