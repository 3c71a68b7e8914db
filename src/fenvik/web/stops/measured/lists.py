"""What a pass is to read: lists to choose from, own lists, and how long it will take."""

from dataclasses import dataclass
from typing import Any

from fenvik.core.signal.lists import LISTS, Plan, put_together
from fenvik.core.signal.shown import Shown
from fenvik.formats.numbers import whole
from fenvik.web.kit.templatetags.fenvik import minutes
from fenvik.web.passes.models import PICTURES, Pass, PatchList
from fenvik.web.passes.sending import can_draw, planned, stage_of
from fenvik.web.stops.progress import FIRST_GUESS_CD_M2, expected_s

LIMITS = {
    "steps": (3, 101),
    "edge": (3, 9),
    "grid": (3, 5),
    "grey": (1, 100),
    "drift_every": (0, 200),
    "minutes": (1, 60),
}


@dataclass(frozen=True)
class Choice:
    """A list in the form: how many patches it adds by itself, and whether it is chosen."""

    id: str
    name: str
    why: str
    count: int
    chosen: bool
    refused: str = ""


def white_of(tuning: Any) -> float:
    """Return the white in cd/m² by which the length of a pass is told: the last that was read, else what is wanted."""
    read = [p.summary["white"] for p in tuning.main_passes if p.purpose in PICTURES and (p.summary or {}).get("white")]
    return float(read[0] if read else tuning.luminance or FIRST_GUESS_CD_M2)


def count_words(tuning: Any, white: float) -> str:
    """Return how many patches a tuning's lists have and how long they take, as the page says it."""
    following = planned(tuning)
    return f"{len(following)} patches as chosen, about {minutes(seconds_of(tuning, white, following))}"


def seconds_of(tuning: Any, white: float, following: list[Shown]) -> float:
    """Return how long the next pass should take, by the meter's own account and how long it really took the last time.

    ``following``: what it reads.
    """
    rows = [shown.as_row() for shown in following]
    if not rows or tuning.meter is None:
        return 0.0
    rule = tuning.low_light
    shell = Pass(
        patches=rows, meter=tuning.meter, meter_facts=tuning.meter.facts, bits=tuning.bits, range=tuning.range,
        average=tuning.average,
        settle_s=0.0 if tuning.source is not None and tuning.source.is_keyed else tuning.settle_s, effort=tuning.effort,
        low_light=None if rule is None else {"below": rule.below, "average": rule.average, "effort": rule.effort},
    )  # fmt: skip
    return sum(expected_s(shell, white))


def fill(scene: Any) -> None:
    """Fill the scene with the choice of lists."""
    tuning, told = scene.tuning, scene.tuning.lists
    options, chosen = told.get("options", {}), set(told.get("chosen", []))
    stage, choices = stage_of(tuning), []
    for listed in LISTS.values():
        if listed.is_hdr and stage is None:
            continue
        count = len(put_together(Plan((listed.id,), options=options), tuning.bits, tuning.range, stage))
        draws = listed.id != "checkerboard" or tuning.source is None or can_draw(tuning.source, "checkerboard")
        refused = "" if draws else f"{tuning.source.name} does not draw it"
        choices.append(Choice(listed.id, listed.name, listed.why, count, listed.id in chosen, refused))
    mine = PatchList.objects.of_firm(tuning.visit.firm_id).order_by("name")
    scene.extra |= {
        "choices": choices,
        "own_lists": [(kept, kept.pk in told.get("own", [])) for kept in mine],
        "list_options": {
            "steps": 33,
            "edge": 4,
            "grid": 3,
            "grey": 75,
            "minutes": 5,
            **options,
            "drift_every": told.get("drift_every", 0),
        },
        "patch_count": len(planned(tuning)),
    }


def taken(sent: Any, firm_id: int) -> dict[str, Any]:
    """Return what a form sent, as it is kept: what is outside its limits is held inside them."""

    def number(name: str, usual: int) -> int:
        value = whole(str(sent.get(name, "")), least=0)
        low, high = LIMITS[name]
        return usual if value is None else min(max(value, low), high)

    grid = 5 if number("grid", 3) > 3 else 3
    wanted = {pk for text in sent.getlist("own") if (pk := whole(text)) is not None}
    own = list(PatchList.objects.of_firm(firm_id).filter(pk__in=wanted).values_list("pk", flat=True))
    return {
        "chosen": [name for name in LISTS if name in sent.getlist("chosen")],
        "own": own,
        "drift_every": number("drift_every", 0),
        "options": {
            "steps": number("steps", 33),
            "edge": number("edge", 4),
            "grid": grid,
            "grey": number("grey", 75),
            "minutes": number("minutes", 5),
        },
    }
