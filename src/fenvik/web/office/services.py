"""Planning: visits, clients, displays, tunings."""

from typing import Any

from django.db import transaction

from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.menus.models import MenuMap
from fenvik.web.menus.shapes import SHAPES
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning, Visit


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


def _menu_map(firm_id: int, choice: str, maker: str, model: str) -> MenuMap:
    kind, _, which = choice.partition("-")
    if kind == "map":
        return MenuMap.objects.of_firm(firm_id).get(pk=int(which))
    return MenuMap.objects.create(firm_id=firm_id, maker=maker, model=model, controls=SHAPES[which].controls())


@transaction.atomic
def add_tuning(*, visit_id: int, actor: User, cleaned: dict[str, Any]) -> Tuning:
    """Add a tuning to a visit; a new display gets its room and its menu map with it."""
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
    return Tuning.objects.create(
        visit=visit, display=display, name=f"{display.room.name}, {cleaned['purpose']}", picture_mode=cleaned["picture_mode"],
        purpose=cleaned["purpose"], target_name=cleaned["target_name"], luminance=cleaned["luminance"],
        tolerance=cleaned["tolerance"],
        # The instruments of the last tuning are the likely ones; Instruments changes them.
        meter=last.meter if last else None, source=last.source if last else None,
    )  # fmt: skip
