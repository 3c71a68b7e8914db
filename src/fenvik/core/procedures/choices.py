"""Choosing a gamma and a white preset by reading the options of a menu, never by their labels."""

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np

from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.colour.target import Target
from fenvik.core.models.palette import Palette
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import ENDS, Procedure
from fenvik.core.types import Floats

ALL_OF, APART = 8, 5  # options: so many are all read; of more, where they go by no order, so many apart at first
BESIDE = 0.3  # of the way between two options: how far beside it one between them may lie, in a menu that goes by an order
# How far off the light is, and which way, by any vector that grows with it. What is as far off as the number given is no longer
# asked about; it gets an infinite one where the whole vector is wanted.
Look = Callable[[float], Procedure[tuple[float, Floats]]]


def of_role(desk: Desk, role: str) -> dict[str, Any] | None:
    """Return the first choice of a role that has anything to choose from; None where a menu has none."""
    return next((c for c in desk.by_role(role) if c["kind"] == "choice" and len(c.get("options", [])) > 1), None)


def tried(desk: Desk, control: dict[str, Any], look: Look) -> Procedure[dict[Any, float]]:
    """Return how far off the light is with options of a choice that can be had, the usual one at least; the last one stands, the
    usual one if it ends there.

    A long menu goes by some order: its ends are read first, then where it should be right. Where it goes by none, options apart
    from each other are read, then those about the best.
    """
    usual = control["value"]
    menu = _Menu(desk, control, look)
    try:
        if len(menu.options) <= ALL_OF:
            yield from menu.read([menu.usual, *range(len(menu.options))])
        elif not (yield from _by_order(menu)):
            yield from _by_parts(menu)
    except ENDS:
        yield from desk.set(control, usual)
        raise
    return menu.off


class _Menu:
    """The options of a choice, and what was read of them by their places."""

    def __init__(self, desk: Desk, control: dict[str, Any], look: Look) -> None:
        self.desk, self.control, self.look = desk, control, look
        self.options = list(dict.fromkeys(control["options"]))  # a menu may list one twice
        self.usual = self.options.index(control["value"]) if control["value"] in self.options else 0
        self.seen: set[int] = set()
        self.off: dict[Any, float] = {}
        self.away: dict[int, Floats] = {}  # by place: which way the light is off

    def read(self, places: Iterable[int], *, whole: bool = False) -> Procedure[None]:
        """Read the options at some places of the menu that were not read yet and can be had."""
        for place in dict.fromkeys(p for p in places if p not in self.seen and 0 <= p < len(self.options)):
            self.seen.add(place)
            option = self.options[place]
            if (yield from self.desk.set(self.control, option)) == option:
                least = np.inf if whole else min(self.off.values(), default=np.inf)
                self.off[option], self.away[place] = yield from self.look(least)


def _by_order(menu: _Menu) -> Procedure[bool]:
    """Read the ends of a menu and what should be right between them; return whether it goes by an order.

    What was read beside what is right, or between the ends, has to lie where the others have it.
    """
    yield from menu.read([menu.usual], whole=True)
    for inwards in (range(len(menu.options)), reversed(range(len(menu.options)))):
        for end in inwards:  # the first from there that can be had
            yield from menu.read([end], whole=True)
            if end in menu.away:
                break
    is_ordered = False
    while len(menu.away) > 1:
        places = sorted(menu.away)
        between = np.array([place for place in range(places[0], places[-1] + 1) if place in menu.away or place not in menu.seen])
        away = np.array([menu.away[place] for place in places])
        expected = np.array([np.interp(between, places, part) for part in away.T]).T  # (places, parts)
        order = np.argsort(np.linalg.norm(expected, axis=1), kind="stable")
        nearest = next((k for k in order if is_ordered or between[k] not in menu.seen), None)
        if nearest is None or between[nearest] in menu.seen:
            return is_ordered
        place = int(between[nearest])
        yield from menu.read([place], whole=True)
        if place in menu.away:
            beside = int(np.searchsorted(places, place))
            way = float(np.linalg.norm(away[beside] - away[beside - 1]))
            is_ordered = float(np.linalg.norm(menu.away[place] - expected[nearest])) <= BESIDE * way
            if not is_ordered:
                return False
    return False


def _by_parts(menu: _Menu) -> Procedure[None]:
    """Read options of a menu apart from each other, then those about the best."""
    stride = -(-len(menu.options) // APART)
    places = [menu.usual, *range(0, len(menu.options), stride)]
    while places:
        yield from menu.read(places)
        places = []
        if stride > 1 and menu.off:
            stride = (stride + 1) // 2
            best = menu.options.index(min(menu.off, key=lambda option: menu.off[option]))
            places = [best - stride, best + stride, *([best - 1, best + 1] if stride == 1 else [])]


def curve(desk: Desk, target: Target, palette: Palette, black: float) -> Procedure[None]:
    """Choose the gamma whose readings lie nearest the target's curve; ``black`` in cd/m²."""
    control = of_role(desk, "gamma")
    if control is None:
        return
    yield from desk.say("curve")
    usual = control["value"]
    white = next(t.xyz[1] for t in reversed(desk.taken) if (t.fraction == 1.0).all())

    def look(least: float) -> Procedure[tuple[float, Floats]]:
        away: list[float] = []
        for level, weight in zip(palette.greys((60.0, 30.0)), (0.6, 0.4), strict=True):
            read = yield from desk.read_once(level)
            wanted = target.xyz(read.fraction[None], float(white), black)[0, 1]
            away.append(weight * float(np.log(max(float(read.xyz[1]), 1e-6) / wanted)))
            if np.abs(away).sum() > least:  # whatever the rest gives, another is nearer
                break
        return float(np.abs(away).sum()), np.array(away)

    errors = yield from tried(desk, control, look)
    best = min(errors, key=lambda o: errors[o])
    # Another curve must be clearly nearer: each brings a wait and a doubt with it.
    chosen = best if errors[best] < 0.9 * errors.get(usual, np.inf) else usual
    yield from desk.set(control, chosen)
    yield from desk.adopt()
    if chosen != usual:
        desk.notes.append(f"{control['label']}: {chosen} lies nearest to the target's curve.")


def preset(desk: Desk, target: Target, palette: Palette) -> Procedure[dict[Any, float]]:
    """Choose the white preset that lies nearest the target's white; return how far each is from it."""
    control = of_role(desk, "white-preset")
    if control is None:
        return {}
    yield from desk.say("white preset")
    aim = xyz_to_uv(target.white)
    usual = control["value"]

    def look(_: float) -> Procedure[tuple[float, Floats]]:
        read = yield from desk.read_once(palette.greys((60.0,))[0])
        away = xyz_to_uv(read.xyz) - aim
        return float(np.hypot(*away)), away

    off = yield from tried(desk, control, look)
    best = min(off, key=lambda o: off[o])
    yield from desk.set(control, best)
    yield from desk.adopt()
    if best != usual:
        desk.notes.append(f"{control['label']}: {best} lies nearest to the target's white.")
    return off
