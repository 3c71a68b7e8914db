"""Choosing a gamma and a white preset by reading every option of a menu, never by its label."""

from typing import Any

import numpy as np

from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.colour.target import Target
from fenvik.core.models.palette import Palette
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import Procedure

MOST_OPTIONS = 8


def _of(desk: Desk, role: str) -> dict[str, Any] | None:
    return next(
        (c for c in desk.by_role(role) if c["kind"] == "choice" and 1 < len(c.get("options", [])) <= MOST_OPTIONS), None
    )


def curve(desk: Desk, target: Target, palette: Palette, black: float) -> Procedure[None]:
    """Choose the gamma whose readings lie nearest the target's curve; ``black`` in cd/m²."""
    control = _of(desk, "gamma")
    if control is None:
        return
    yield from desk.say("curve")
    usual = control["value"]
    white = next(t.xyz[1] for t in reversed(desk.taken) if (t.fraction == 1.0).all())

    def look() -> Procedure[float]:
        read = yield from desk.each_once(palette.greys((60.0, 30.0)))
        y = np.array([t.xyz[1] for t in read])
        wanted = target.xyz(np.array([t.fraction for t in read]), float(white), black)[:, 1]
        return float(np.abs(np.log(np.maximum(y, 1e-6) / wanted)) @ [0.6, 0.4])

    errors = yield from desk.tried(control, [usual, *(o for o in control["options"] if o != usual)], look)
    best = min(errors, key=lambda o: errors[o])
    # Another curve must be clearly nearer: each brings a wait and a doubt with it.
    chosen = best if errors[best] < 0.9 * errors[usual] else usual
    yield from desk.set(control, chosen)
    yield from desk.adopt()
    if chosen != usual:
        desk.notes.append(f"{control['label']}: {chosen} lies nearest to the target's curve.")


def preset(desk: Desk, target: Target, palette: Palette) -> Procedure[None]:
    """Choose the white preset that lies nearest the target's white."""
    control = _of(desk, "white-preset")
    if control is None:
        return
    yield from desk.say("white preset")
    aim = xyz_to_uv(target.white)
    usual = control["value"]

    def look() -> Procedure[float]:
        read = yield from desk.read_once(palette.greys((60.0,))[0])
        return float(np.hypot(*(xyz_to_uv(read.xyz) - aim)))

    off = yield from desk.tried(control, control["options"], look)
    best = min(off, key=lambda o: off[o])
    yield from desk.set(control, best)
    yield from desk.adopt()
    if best != usual:
        desk.notes.append(f"{control['label']}: {best} lies nearest to the target's white.")
