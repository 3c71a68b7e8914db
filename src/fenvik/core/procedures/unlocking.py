"""Controls that another one locks: white balance that takes effect in some white presets alone, colours in some colour spaces.

That is found out by turning them, never by what a choice is called.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.procedures.choices import of_role
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.following import PATIENT_S
from fenvik.core.procedures.steps import Ask, Procedure, RefusedError, Set, Wait
from fenvik.core.procedures.taken import Taken
from fenvik.core.procedures.turning import STAYS

PROBED = ("white.gain", "white.offset")  # roles: what tells whether white balance can be set
OF_TWO, OF_POINTS = ("gain", "offset"), ("point", "tone")  # kinds of knobs
ACTS, SURELY = 0.25, 0.01  # of what was promised, and of ln of a light: what brings more than either does something
MOST_NAMED = 3
LEAST_PROMISED = 0.02  # of ln of a light: less promised tells nothing


@dataclass
class Dead:
    """What was turned and did nothing: ``turned`` by control, and how much of ln of a light it should have done at ``level``."""

    turned: dict[str, Any]
    level: float = 0.0  # percent of signal
    promised: float = 0.0
    is_refused: bool = False  # it could not even be turned

    def share(self, without: Taken, with_it: Taken) -> float:
        """Return how much of what was promised it brings after all, by a reading without it and one with it; 0 for nothing."""
        brings = float(np.abs(np.log(np.maximum(without.xyz, 1e-9) / np.maximum(with_it.xyz, 1e-9))).max())
        return brings / self.promised if brings > min(ACTS * self.promised, SURELY) else 0.0


def what_is_left(
    desk: Desk, off: Mapping[Any, float], dead: Dead, kinds: Sequence[str]
) -> Procedure[tuple[list[str], list[str]]]:
    """Let what did nothing act, by another preset or by a person. Return the kinds of knobs to go on with, and of them those that
    are still doubted: without those that nothing helps.
    """
    desk.following.unlearn("turned")
    roles = {c["id"]: str(c.get("role") or "") for c in desk.controls}
    is_of_two = any(roles[name].startswith(PROBED) for name in dead.turned)
    others = [] if not is_of_two else [kind for kind in kinds if kind == "point"]
    if not dead.is_refused and (yield from _where_it_acts(desk, off, dead)):
        return list(kinds), others
    said = _in_words(desk, dead, is_of_two=is_of_two)
    if not is_of_two and (yield Ask(f"{said} Set that at the display, then go on; or go on without.")):
        desk.lets_again(dead.turned)
        yield from desk.adopt()  # what was turned at the display meanwhile
        return list(kinds), []
    if said:
        desk.notes.append(f"{said} They were left alone.")
    return [kind for kind in kinds if kind not in (OF_TWO if is_of_two else OF_POINTS)], others


def _in_words(desk: Desk, dead: Dead, *, is_of_two: bool) -> str:
    """Return what did nothing, in a sentence, and what of the menu may be in its way."""
    if is_of_two:  # what is refused was said as such
        return "" if dead.is_refused else "Gains and offsets do nothing that a reading can tell, in no white preset there is."
    unknown = [str(c["label"]) for c in desk.controls if not c.get("role") and c["kind"] in ("choice", "switch")]
    refusals = [words for words, labels in desk.refusals.items() if labels]
    what = "are refused by the display" if dead.is_refused else "do nothing that a reading can tell"
    why = f" ({refusals[-1].rstrip('.')})" if dead.is_refused and refusals else ""
    if why and refusals[-1] == STAYS:
        what, why = "do not move, whatever they are set to", ""
    may_be = f" Here it may be {' or '.join(unknown[:MOST_NAMED])}." if unknown else ""
    return f"The points of the white balance {what}{why}. Many menus have a switch for them, or let their number be chosen.{may_be}"


def let_it_be_set(desk: Desk, off: Mapping[Any, float], lock: str, probed: Sequence[str], what: str) -> Procedure[None]:
    """Choose an option of a choice in which the display lets something else be set; where it goes to one by itself, that one.

    ``lock``: the choice's role; ``probed``: roles of what is to be set, called ``what``. ``off``: how far each option is from what
    is wanted. No reading is taken.
    """
    choice = of_role(desk, lock)
    probe = next((c for role in probed for c in desk.by_role(role) if c["kind"] == "range"), None)
    if choice is None or probe is None or desk.by_hand:
        return
    usual = choice["value"]
    for option in nearest_first(off, usual):
        if (yield from desk.set(choice, option)) != option:
            continue
        if option != usual:
            yield from desk.adopt()
        if (yield from _lets(desk, probe)):
            break
    else:
        yield from desk.set(choice, usual)
        yield from desk.adopt()
        return
    if option != usual:
        desk.notes.append(
            f"{choice['label']}: {option} was chosen, for the display lets its {what} be set there and not in {usual}."
        )
    elif choice["value"] != usual:
        desk.notes.append(f"{choice['label']} goes to {choice['value']} by itself when {what} is turned, so that was taken.")


def _where_it_acts(desk: Desk, off: Mapping[Any, float], dead: Dead) -> Procedure[bool]:
    """Choose the nearest preset in which what was turned does something; return whether there is one. One or two readings each."""
    preset = of_role(desk, "white-preset")
    if preset is None:
        return False
    usual, stood = preset["value"], desk.settings
    for option in nearest_first(off, usual)[1:]:
        if (yield from desk.set(preset, option)) != option:
            continue
        yield from desk.adopt()
        yield Wait(PATIENT_S["chosen"])
        before = yield from desk.read_once(dead.level)
        own = desk.settings
        yield from desk.put(own | dead.turned)
        yield Wait(PATIENT_S["turned"])
        after = yield from desk.read_once(dead.level)
        acts = bool(dead.share(before, after))
        if not (acts and desk.by_hand):  # a person has turned enough
            yield from desk.put(own)
            yield Wait(PATIENT_S["turned"])
        if acts:
            desk.notes.append(
                f"{preset['label']}: {option} was chosen, for white balance does something there and nothing in {usual}."
            )
            return True
    yield from desk.put(stood)
    yield Wait(PATIENT_S["chosen"])
    return False


def nearest_first(off: Mapping[Any, float], usual: Any) -> list[Any]:
    """Return the options of a choice, the usual one first, then those that are least off what is wanted."""
    return [usual, *sorted((option for option in off if option != usual), key=lambda option: off[option])]


def _lets(desk: Desk, probe: dict[str, Any]) -> Procedure[bool]:
    """Turn a control by a step and back; return whether the display lets that be done. What that brings along is taken as it is."""
    stood, step = probe["value"], probe["step"] if probe["value"] < probe["max"] else -probe["step"]
    try:
        probe["value"] = yield Set(probe["id"], type(stood)(stood + step))
    except RefusedError as refusal:
        return refusal.room is not None  # a narrower range is one
    if probe["value"] == stood and not (yield from desk.has_moved_late(probe, stood)):
        return (yield from desk.moves(probe))
    yield from desk.look(takes_choices=True)
    yield from desk.set(probe, probe["value"] - step)
    return True
