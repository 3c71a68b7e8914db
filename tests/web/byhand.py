"""A person at a display that is not on the link, who does what the screen says."""

import uuid

import numpy as np
from django.utils import timezone

from fenvik.standins.world import Signal
from fenvik.web.adjusting import lists
from fenvik.web.clients.models import Display
from fenvik.web.controls.services import note_found
from fenvik.web.demo.build import Hand, menu_map_of
from fenvik.web.passes import engine
from fenvik.web.passes.models import PassPurpose
from fenvik.web.visits.models import Tuning
from tests.web.adjustable import adjustable
from tests.web.reading import fresh

TARGETS = {"hdr10": "bt2020-pq", "sdr": "bt709-bt1886"}


def by_hand(person, bench, now, index, mode, *, signal="hdr10", tolerance=3.0, turned=0.0, **aim):
    """Follow the nudges at both ends of a mode that is not on the link, towards an ``aim``; return the hand.

    ``turned``: share of their range by which somebody has turned points at random before.
    """
    label = bench.displays[index].menu.modes[mode].label
    tuning = adjustable(person, bench, now, index=index, mode=label, pair=False)
    Tuning.objects.filter(pk=tuning.pk).update(signal=signal, target_name=TARGETS[signal], tolerance=tolerance, **aim)
    bench.world.signal = Signal(signal, "bt709" if signal == "sdr" else "bt2020", 10, "limited", 60.0)
    display = bench.displays[index]
    display.choose_mode(mode)
    menu = menu_map_of(person.firm, tuning.display.maker, tuning.display.model, display.menu, mode)
    Display.objects.filter(pk=tuning.display_id).update(menu_map=menu, technology=display.optics.technology)
    tuning = fresh(tuning)
    chance = np.random.default_rng(7)
    for control in display.menu.described(mode) if turned else ():
        if str(control["role"]).startswith("white.at."):
            display.set_control(mode, control["id"], round(turned * chance.uniform(control["min"], control["max"])))
    typed = {c["id"]: str(c["value"]) for c in display.menu.described(mode)}
    note_found(tuning_id=tuning.pk, actor=person, typed=typed, now=now)
    hand = Hand(tuning, person, display, mode)
    hand.measure(PassPurpose.FOUND, now)
    for end in ("high", "low") * 2:
        hand.follow(end, timezone.now())
    return hand


def enter_a_list(hand):
    """Read all levels, list what is proposed and enter it; None where nothing is worth its keys."""
    tuning, actor = hand.tuning, hand.actor
    engine.run(lists.read_points(tuning_id=tuning.pk, actor=actor, now=timezone.now()).pk)
    try:
        listed = lists.list_points(tuning_id=tuning.pk, actor=actor, now=timezone.now())
    except lists.NothingToEnterError:
        return None
    for row in listed.rows:
        hand.display.set_control(hand.mode, row["control"], row["after"])
    names = [row["control"] for row in listed.rows]
    lists.enter(tuning_id=tuning.pk, actor=actor, list_id=listed.pk, controls=names, now=timezone.now(), group=uuid.uuid4())
    return listed
