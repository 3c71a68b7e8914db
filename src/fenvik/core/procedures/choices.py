"""Choosing a gamma and a white preset by reading the options of a menu, never by their labels."""

from collections.abc import Callable
from typing import Any

import numpy as np

from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.colour.target import Target
from fenvik.core.models.palette import Palette
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import ENDS, Procedure

ALL_OF, APART = 8, 5  # options: so many are all read, of more so many apart at first


def of_role(desk: Desk, role: str) -> dict[str, Any] | None:
    """Return the first choice of a role that has anything to choose from; None where a menu has none."""
    return next((c for c in desk.by_role(role) if c["kind"] == "choice" and len(c.get("options", [])) > 1), None)


def tried(desk: Desk, control: dict[str, Any], look: Callable[[], Procedure[float]]) -> Procedure[dict[Any, float]]:
    """Return how far off the light is with options of a choice that can be had, the usual one at least; the last one stands, the
    usual one if it ends there.

    A long menu goes by some order: options apart from each other are read first, then those about the best.
    """
    options, usual, off = list(control["options"]), control["value"], {}
    stride = 1 if len(options) <= ALL_OF else -(-len(options) // APART)
    places = [options.index(usual), *range(0, len(options), stride)] if usual in options else [*range(0, len(options), stride)]
    seen: set[int] = set()
    try:
        while places:
            for place in dict.fromkeys(p for p in places if p not in seen and 0 <= p < len(options)):
                seen.add(place)
                if (yield from desk.set(control, options[place])) == options[place]:
                    off[options[place]] = yield from look()
            places = []
            if stride > 1 and off:
                stride = (stride + 1) // 2
                best = options.index(min(off, key=lambda option: off[option]))
                places = [best - stride, best + stride, *([best - 1, best + 1] if stride == 1 else [])]
    except ENDS:
        yield from desk.set(control, usual)
        raise
    return off


def curve(desk: Desk, target: Target, palette: Palette, black: float) -> Procedure[None]:
    """Choose the gamma whose readings lie nearest the target's curve; ``black`` in cd/m²."""
    control = of_role(desk, "gamma")
    if control is None:
        return
    yield from desk.say("curve")
    usual = control["value"]
    white = next(t.xyz[1] for t in reversed(desk.taken) if (t.fraction == 1.0).all())

    least = np.inf

    def look() -> Procedure[float]:
        nonlocal least
        error = 0.0
        for level, weight in zip(palette.greys((60.0, 30.0)), (0.6, 0.4), strict=True):
            read = yield from desk.read_once(level)
            wanted = target.xyz(read.fraction[None], float(white), black)[0, 1]
            error += weight * abs(float(np.log(max(float(read.xyz[1]), 1e-6) / wanted)))
            if error > least:  # whatever the rest gives, another is nearer
                return error
        least = error
        return error

    errors = yield from tried(desk, control, look)
    best = min(errors, key=lambda o: errors[o])
    # Another curve must be clearly nearer: each brings a wait and a doubt with it.
    chosen = best if errors[best] < 0.9 * errors[usual] else usual
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

    def look() -> Procedure[float]:
        read = yield from desk.read_once(palette.greys((60.0,))[0])
        return float(np.hypot(*(xyz_to_uv(read.xyz) - aim)))

    off = yield from tried(desk, control, look)
    best = min(off, key=lambda o: off[o])
    yield from desk.set(control, best)
    yield from desk.adopt()
    if best != usual:
        desk.notes.append(f"{control['label']}: {best} lies nearest to the target's white.")
    return off
