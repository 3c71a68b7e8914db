"""Planning: visits, clients, displays, tunings."""

from typing import Any

from django.db import transaction
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.core.measure.averaging import usual
from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.controls.models import MenuMap, Origin
from fenvik.web.controls.shapes import SHAPES
from fenvik.web.corrections.choosing import renew
from fenvik.web.kit.notify import notify
from fenvik.web.passes.services import PICTURES
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.summary import summarise
from fenvik.web.visits.models import Tuning, Visit, clash


class TargetClashError(FenvikError):
    """A target that cannot be held against the tuning's signal."""

    code = "target_clash"


def _see_that_it_fits(facts: dict[str, Any]) -> None:
    problem = clash(facts.get("signal") or "sdr", facts["target_name"], facts.get("free"))
    if problem:
        raise TargetClashError(problem)


@needs(Right.PLAN, "planned a visit")
@transaction.atomic
def plan_visit(*, actor: User, cleaned: dict[str, Any]) -> Visit:
    """Plan a visit to a known or a new client."""
    client = cleaned["client"]
    if client is None:
        client, _ = Client.objects.get_or_create(firm_id=actor.firm_id, name=cleaned["new_client"].strip())
    return Visit.objects.create(
        firm_id=actor.firm_id,
        client=client,
        on=cleaned["on"],
        starts=cleaned["starts"],
        notes=cleaned["notes"],
        calibrator=actor,
    )


def _menu_map(firm_id: int, choice: str, maker: str, model: str) -> MenuMap | None:
    kind, _, which = choice.partition("-")
    if kind == "later":
        return None
    if kind == "own":
        known = MenuMap.objects.of_firm(firm_id).filter(maker__iexact=maker, model__iexact=model)
        return known.order_by("-pk").first()
    if kind == "map":
        return MenuMap.objects.of_firm(firm_id).get(pk=int(which))
    return MenuMap.objects.create(
        firm_id=firm_id, maker=maker, model=model, controls=SHAPES[which].controls(), origin=Origin.SHAPE
    )


def as_usual(technology: str) -> dict[str, Any]:
    """Return how a display of a technology is usually measured, as a tuning's fields."""
    suits = usual(technology)
    return {
        "window": suits.window, "surround": suits.surround, "settle_s": suits.settle_s, "average": suits.average,
        "low_below": suits.low_below, "low_average": suits.low_average,
    }  # fmt: skip


def _called(visit: Visit, name: str, display: Display, mode: str) -> str:
    """Return a name that no other tuning of the visit has: where two would be called alike, both get model and mode."""
    alike = visit.tunings.filter(name=name).select_related("display")
    for other in alike:
        other.name = _told_apart(name, other.display, other.picture_mode)
        other.save(update_fields=["name"])
    taken = {told.name for told in visit.tunings.all()}
    begins = any(told.startswith(f"{name} · ") for told in taken)
    wanted = _told_apart(name, display, mode) if begins else name
    numbered = (f"{wanted[:74]} ({i})" for i in range(2, 100))
    return wanted if wanted not in taken else next(told for told in numbered if told not in taken)


def _told_apart(name: str, display: Display, mode: str) -> str:
    return f"{name} · {display.model} {mode}"[:80]


@needs(Right.PLAN, "added a tuning")
@transaction.atomic
def add_tuning(*, visit_id: int, actor: User, cleaned: dict[str, Any]) -> Tuning:
    """Add a tuning to a visit; a new display gets its room and its menu map with it."""
    _see_that_it_fits(cleaned)
    visit = Visit.objects.of_firm(actor.firm_id).select_related("client").get(pk=visit_id)
    display = cleaned["display"]
    if display is None:
        room, _ = Room.objects.get_or_create(client=visit.client, name=cleaned["room"].strip())
        display = Display.objects.create(
            room=room, maker=cleaned["maker"].strip(), model=cleaned["model"].strip(), serial=cleaned["serial"].strip(),
            technology=cleaned["technology"],
            menu_map=_menu_map(actor.firm_id, cleaned["menu"], cleaned["maker"].strip(), cleaned["model"].strip()),
        )  # fmt: skip
    elif display.menu_map_id is None:
        display.menu_map = _menu_map(actor.firm_id, cleaned["menu"], display.maker, display.model)
        display.save(update_fields=["menu_map"])
    last = Tuning.objects.of_firm(actor.firm_id).exclude(meter=None).order_by("-created_at").first()
    made = Tuning.objects.create(
        visit=visit,
        display=display,
        name=_called(visit, f"{display.room.name}, {cleaned['purpose']}", display, cleaned["picture_mode"]),
        picture_mode=cleaned["picture_mode"],
        purpose=cleaned["purpose"],
        signal=cleaned.get("signal") or "sdr",
        target_name=cleaned["target_name"],
        luminance=cleaned["luminance"],
        tolerance=cleaned["tolerance"],
        # The instruments of the last tuning are the likely ones; Instruments changes them.
        meter=last.meter if last else None,
        source=last.source if last else None,
        **as_usual(display.technology),
    )
    renew(made, timezone.now())  # a correction that fits is in force at once
    return made


@needs(Right.PLAN)
@transaction.atomic
def add_proposed(*, visit_id: int, display_id: int, actor: User, chosen: list[dict[str, Any]]) -> list[Tuning]:
    """Add the tunings that were chosen from the proposals of a display, each as it was changed there. Raises TargetClashError."""
    for facts in chosen:
        _see_that_it_fits(facts)
    visit = Visit.objects.of_firm(actor.firm_id).get(pk=visit_id)
    display = (
        Display.objects.of_firm(actor.firm_id)
        .select_related("room")
        .get(pk=display_id, room__client_id=visit.client_id)
    )
    last = Tuning.objects.of_firm(actor.firm_id).exclude(meter=None).order_by("-created_at").first()
    made = [
        Tuning.objects.create(
            visit=visit, display=display, meter=last.meter if last else None,
            source=last.source if last and "screen" not in (last.source.facts if last.source else {}) else None,
            **as_usual(display.technology), **facts | {"name": _called(visit, facts["name"], display, facts["picture_mode"])},
        )
        for facts in chosen
    ]  # fmt: skip
    for tuning in made:
        renew(tuning, timezone.now())
    return made


@needs(Right.PLAN, "changed a target")
@transaction.atomic
def keep_target(*, tuning_id: int, actor: User, cleaned: dict[str, Any]) -> Tuning:
    """Keep what a tuning aims at. Raises TargetClashError."""
    _see_that_it_fits(cleaned)
    tuning = Tuning.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=tuning_id)
    if tuning.picture_mode != cleaned["picture_mode"]:
        tuning.mode_id = ""  # it was another mode's
    for name in ("name", "picture_mode", "purpose", "signal", "target_name", "luminance", "tolerance"):
        setattr(tuning, name, cleaned[name])
    tuning.roll_off, tuning.mastered = cleaned.get("roll_off") or "clip", cleaned.get("mastered") or tuning.mastered
    least = cleaned.get("mastered_least")
    tuning.mastered_least = tuning.mastered_least if least is None else least
    tuning.knees = cleaned.get("knees") or []
    tuning.free = cleaned.get("free") if cleaned["target_name"] == "free" else None
    tuning.save()
    # What was read before is held against the new target too, at once and everywhere.
    for pk in tuning.passes.filter(summary__isnull=False, purpose__in=PICTURES).values_list("pk", flat=True):
        summarise(pk)
    notify(tuning_id)
    return tuning
