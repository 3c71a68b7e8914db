"""What the next pass of a tuning reads: lists to choose from, and the firm's own."""

from collections.abc import Sequence
from typing import Any

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import PatchList
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import WHOLE, Tuning

Row = tuple[str, tuple[float, float, float]]  # label, and three percentages of signal


class ListTakenError(FenvikError):
    """Another list of the firm has this name."""

    code = "list_taken"


def _locked(tuning_id: int, actor: User) -> Tuning:
    return Tuning.objects.of_firm(actor.firm_id).select_for_update(of=WHOLE).get(pk=tuning_id)


@needs(Right.MEASURE)
@transaction.atomic
def choose_lists(*, tuning_id: int, actor: User, lists: dict[str, Any]) -> None:
    """Keep which lists the next pass of a tuning reads, and how they are put together."""
    tuning = _locked(tuning_id, actor)
    tuning.lists = lists
    tuning.save(update_fields=["lists"])
    notify(tuning_id)


@needs(Right.MEASURE)
@transaction.atomic
def choose_too(*, tuning_id: int, actor: User, list_id: int) -> None:
    """Let the next pass of a tuning read one of the firm's own lists too."""
    tuning = _locked(tuning_id, actor)
    kept = PatchList.objects.of_firm(actor.firm_id).get(pk=list_id)
    tuning.lists = tuning.lists | {"own": sorted({*tuning.lists.get("own", []), kept.pk})}
    tuning.save(update_fields=["lists"])
    notify(tuning_id)


@needs(Right.MEASURE, "kept a patch list")
@transaction.atomic
def keep_list(*, actor: User, name: str, rows: Sequence[Row], list_id: int | None = None, replaces: bool = False) -> PatchList:
    """Keep a list of the firm's own, a new one or another version of one. Raises ListTakenError.

    ``replaces``: one of the same name gives way, as for a file that is read again.
    """
    name = name.strip()[:80]
    every = PatchList.objects.of_firm(actor.firm_id).select_for_update(of=("self",))
    same = every.filter(name=name).exclude(pk=list_id or 0).first()
    if same is not None and not replaces:
        raise ListTakenError(f"There is a list called {name} already.")
    known = PatchList.objects.of_firm(actor.firm_id).filter(pk=list_id).first() if list_id is not None else same
    kept = known or PatchList(firm_id=actor.firm_id)
    kept.name, kept.patches = name, [{"label": label, "percent": list(percent)} for label, percent in rows]
    kept.save()
    return kept


@needs(Right.MEASURE, "took a patch list away")
@transaction.atomic
def drop_list(*, actor: User, list_id: int, tuning_id: int) -> None:
    """Take a list of the firm's own away; passes that were read by it keep their patches. Taken away twice it is gone once."""
    PatchList.objects.of_firm(actor.firm_id).filter(pk=list_id).delete()
    notify(tuning_id)
