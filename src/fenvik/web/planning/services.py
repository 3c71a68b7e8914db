"""Planning: visits, clients, displays, tunings."""

from typing import Any

from django.db import transaction
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.core.measure.averaging import usual
from fenvik.core.proposals import Room as RoomLight
from fenvik.core.proposals import propose
from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.controls.models import MenuMap, Origin
from fenvik.web.controls.shapes import SHAPES
from fenvik.web.corrections.choosing import renew
from fenvik.web.devices.models import Device
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import PICTURES
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.planning.wording import ToldDisplay, WordsError, read, technology_of
from fenvik.web.results.summary import summarise
from fenvik.web.visits.aimed import ENDS, SIGNALS, clash
from fenvik.web.visits.models import WHOLE, Tuning, Visit, first_lists


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
    made = Visit.objects.create(
        firm_id=actor.firm_id,
        client=client,
        on=cleaned["on"],
        starts=cleaned["starts"],
        notes=cleaned["notes"],
        calibrator=actor,
    )
    if (cleaned.get("words") or "").strip():
        add_in_words(visit_id=made.pk, actor=actor, text=cleaned["words"])
    return made


def _told_display(visit: Visit, told: ToldDisplay, firm_id: int) -> Display:
    """Return the display that a line means: the one of that room and model, else a new one. Raises WordsError."""
    there = Display.objects.filter(room__client=visit.client, room__name__iexact=told.room).select_related("room")
    if told.model:
        there = there.filter(model__iexact=told.model, maker__iexact=told.maker)
        there = there.filter(serial__iexact=told.serial) if told.serial and there.filter(serial__gt="").exists() else there
    known = list(there[:2])
    if len(known) == 1:
        return known[0]
    if known:
        raise WordsError(f"Line {told.number}: {told.room} has several such displays; its model or serial tells which.")
    if not told.model:
        raise WordsError(f"Line {told.number}: no display stands in {told.room} yet; which maker and model is it?")
    room = Room.objects.filter(client=visit.client, name__iexact=told.room).first()
    return Display.objects.create(
        room=room or Room.objects.create(client=visit.client, name=told.room), maker=told.maker, model=told.model,
        serial=told.serial, technology=technology_of(told), menu_map=_menu_map(firm_id, "own", told.maker, told.model),
    )  # fmt: skip


@needs(Right.PLAN, "planned in words")
@transaction.atomic
def add_in_words(*, visit_id: int, actor: User, text: str) -> list[Tuning]:
    """Add displays and tunings as ``wording.read`` understands them, all or none. Raises WordsError."""
    visit = Visit.objects.of_firm(actor.firm_id).select_related("client").get(pk=visit_id)
    made: list[Tuning] = []
    for told in read(text):
        display = _told_display(visit, told, actor.firm_id)
        light = RoomLight(display.room.lux_day, display.room.lux_night)
        chosen = []
        for tuning in told.tunings:
            usual_for = propose(tuning.purpose, tuning.signal, technology=display.technology, room=light)
            words = tuning.purpose if tuning.signal == "sdr" else f"{tuning.purpose}, {SIGNALS[tuning.signal]}"
            chosen.append({
                "name": f"{display.room.name}, {words}", "picture_mode": tuning.mode, "purpose": tuning.purpose,
                "signal": tuning.signal, "target_name": usual_for.target, "tolerance": usual_for.tolerance,
                "luminance": tuning.luminance or usual_for.luminance,
            })  # fmt: skip
        made += add_proposed(visit_id=visit_id, display_id=display.pk, actor=actor, chosen=chosen)
    return made


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


def usual_bits(signal: str, source: Device | None) -> int:
    """Return of how many bits a signal's code values are: in eight the steps of HDR are too wide, but some sources send no more."""
    return 10 if signal != "sdr" and (source is None or 10 in source.facts.get("bits", [])) else 8


def _likely(firm_id: int) -> dict[str, Device | None]:
    """Return the instruments of the last tuning, or the firm's only ones; Instruments changes them."""
    last = Tuning.objects.of_firm(firm_id).exclude(meter=None).order_by("-created_at").first()
    made: dict[str, Device | None] = {}
    for role in ("meter", "source"):
        here = Device.objects.of_firm(firm_id).filter(role=role, removed_at__isnull=True, screen__isnull=True)
        only = list(here[:2])
        before = getattr(last, role) if last else None
        made[role] = before if before and "screen" not in before.facts else only[0] if len(only) == 1 else None
    return made


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
    made = Tuning.objects.create(
        visit=visit,
        display=display,
        name=_called(visit, f"{display.room.name}, {cleaned['purpose']}", display, cleaned["picture_mode"]),
        picture_mode=cleaned["picture_mode"],
        purpose=cleaned["purpose"],
        signal=cleaned.get("signal") or "sdr",
        lists=first_lists(cleaned.get("signal") or "sdr"),
        target_name=cleaned["target_name"],
        luminance=cleaned["luminance"],
        tolerance=cleaned["tolerance"],
        **(likely := _likely(actor.firm_id)),
        bits=usual_bits(cleaned.get("signal") or "sdr", likely["source"]),
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
    likely = _likely(actor.firm_id)
    made = [
        Tuning.objects.create(
            visit=visit, display=display, **likely,
            **as_usual(display.technology), lists=first_lists(facts.get("signal", "sdr")),
            bits=usual_bits(facts.get("signal", "sdr"), likely["source"]),
            **facts | {"name": _called(visit, facts["name"], display, facts["picture_mode"])},
        )
        for facts in chosen
    ]  # fmt: skip
    for tuning in made:
        renew(tuning, timezone.now())
    return made


def _of_another_range(tuning: Tuning, cleaned: dict[str, Any]) -> dict[str, Any]:
    """Return white's light and tolerance as usual for HDR, or for SDR, where a target goes over to it and nobody typed others."""
    if (tuning.signal == "sdr") == (cleaned["signal"] == "sdr"):
        return {}
    room = tuning.display.room
    usual_for = propose(
        cleaned["purpose"], cleaned["signal"], technology=tuning.display.technology, room=RoomLight(room.lux_day, room.lux_night)
    )
    of_it = {"luminance": usual_for.luminance, "tolerance": usual_for.tolerance}
    return {name: value for name, value in of_it.items() if cleaned[name] == getattr(tuning, name)}


@needs(Right.PLAN, "changed a target")
@transaction.atomic
def keep_target(*, tuning_id: int, actor: User, cleaned: dict[str, Any]) -> Tuning:
    """Keep what a tuning aims at. Raises TargetClashError."""
    _see_that_it_fits(cleaned)
    tuning = Tuning.objects.of_firm(actor.firm_id).select_for_update(of=WHOLE).select_related("source").get(pk=tuning_id)
    nobody_chose = tuning.bits == usual_bits(tuning.signal, tuning.source)
    cleaned |= _of_another_range(tuning, cleaned)
    if (tuning.picture_mode, tuning.signal) != (cleaned["picture_mode"], cleaned["signal"]):
        tuning.mode_id = ""  # it was another mode's
    for name in ("name", "picture_mode", "purpose", "signal", "target_name", "luminance", "tolerance"):
        setattr(tuning, name, cleaned[name])
    for name in ENDS:
        setattr(tuning, name, cleaned.get(name, getattr(tuning, name)))
    if not tuning.passes.filter(purpose__in=PICTURES).exists():
        if tuning.lists in (first_lists("sdr"), first_lists("hdr10")):
            tuning.lists = first_lists(tuning.signal)  # nobody chose these
        if nobody_chose:
            tuning.bits = usual_bits(tuning.signal, tuning.source)
    tuning.free = cleaned.get("free") if cleaned["target_name"] == "free" else None
    tuning.save()
    # What was read before is held against the new target too, at once and everywhere.
    for pk in tuning.passes.filter(summary__isnull=False, purpose__in=PICTURES).values_list("pk", flat=True):
        summarise(pk)
    notify(tuning_id)
    return tuning
