"""Colours whose controls take values and do nothing: many menus let them act in one colour space alone."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.models import hues
from fenvik.core.procedures.choices import of_role
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.following import PATIENT_S
from fenvik.core.procedures.hue import Hue
from fenvik.core.procedures.steps import Procedure, Wait
from fenvik.core.procedures.unlocking import nearest_first
from fenvik.core.types import Floats


def where_they_act(
    desk: Desk, target: Target, hold: tuple[float, float], hue: Hue, off: Mapping[Any, float]
) -> Procedure[bool]:
    """Choose the nearest colour space in which what a colour was turned by does something; return whether there is one.

    ``hold``: white and black in cd/m²; ``hue``: a colour that was turned, and did nothing; ``off``: how far the primaries of each
    colour space are from those that are wanted. Its patches are read twice in each.
    """
    space = of_role(desk, "gamut")
    if space is None or desk.by_hand:
        return False
    usual, stood, moved = space["value"], desk.settings, hue.looks[1].settings

    def parts() -> Procedure[Floats]:
        read = yield from desk.reads(hue.patches)
        return hues.parts_of(hue.fraction, np.array([t.xyz for t in read]), target, *hold)

    for option in nearest_first(off, usual)[1:]:
        if (yield from desk.set(space, option)) != option:
            continue
        yield from desk.adopt()
        yield Wait(PATIENT_S["chosen"])
        own = hue.settings
        before = yield from parts()
        yield from hue.turn(desk, moved)
        yield Wait(PATIENT_S["turned"])
        after = yield from parts()
        yield from hue.turn(desk, own)
        if float(hues.errors_of((after - before)[: hues.OWN]).max()) >= hues.DEAD:
            yield Wait(PATIENT_S["turned"])
            desk.notes.append(
                f"{space['label']}: {option} was chosen, for colour management does something there and nothing in {usual}."
            )
            return True
    yield from desk.put(stood)
    yield Wait(PATIENT_S["chosen"])
    return False
