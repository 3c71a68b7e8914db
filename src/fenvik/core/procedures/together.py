"""Saturation and tint of all colours at once, before single ones: for what all of them have too much or too little of."""

from typing import Any

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import control_of
from fenvik.core.models.foreseen import Foresight
from fenvik.core.models.palette import Palette
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import ENDS, Fraction, Procedure
from fenvik.core.types import Floats

# Of the saturation that colours should have: from where on it is no matter of single ones. What has less can mostly be given more
# by its own controls, and beside a white sub-pixel everything pale has less.
TOO_MUCH, TOO_LITTLE, FAR_TOO_LITTLE, LEAST_SCALE = 1.035, 0.88, 0.6, 0.05
TURNED = 0.09  # radians about grey, in the three lights: less is for the hues of single colours
PROBE = 0.08  # of a range: nobody knows which way a tint turns
LEAST_CAME = {"saturation": 0.2, "tint": 0.1}  # of what is off
SCALE, ANGLE = 0, 1
PARTS = {"tint": ANGLE, "saturation": SCALE}


def together(
    desk: Desk, target: Target, hold: tuple[float, float], palette: Palette, foresight: Foresight
) -> Procedure[Foresight | None]:
    """Turn saturation and tint where all colours are off by much in the same way: what has left a light is lost to single colours,
    and their own controls seldom reach that far. Return what is foreseen then, None where nothing is.

    What is foreseen is read first, of two skin tones and a pale colour; those tell what a turn really did, too.
    """
    every = np.array([percent for hue in palette.hues.values() for _, percent in hue]) / 100.0
    least = TOO_LITTLE if foresight.is_sure else FAR_TOO_LITTLE
    foreseen = _much(_apart(every, foresight.xyz(every), target, hold), least)
    controls = {
        role: next((c for c in desk.by_role(role) if c["kind"] == "range" and c["role"] == role), None) for role in foreseen
    }
    if not any(controls.values()):
        return foresight
    pale = [*palette.skins.values(), palette.hues["cyan"][1][1]]
    off = seen = yield from _look(desk, target, hold, pale)
    told: list[str] = []
    for role in sorted(foreseen & _much(off, least), reverse=True):  # tint first
        control, part = controls[role], PARTS[role]
        moved = None if control is None else (yield from _turn(desk, target, hold, control, pale, seen, part))
        if moved is not None and control is not None:
            seen = moved
            told.append(f"{control['label']} was put to {control['value']:g}")
    if not told:
        return foresight
    how = f"at {100.0 * np.exp(off[SCALE]):.0f} % of their saturation and turned by {abs(np.degrees(off[ANGLE])):.0f}°"
    desk.notes.append(f"All colours were {how}, so {' and '.join(told)}.")
    read = yield from desk.reads([*palette.full, *palette.skins.values()])
    made = np.array([t.fraction for t in read]), np.array([t.xyz for t in read])
    try:
        return Foresight.of(*made, foresight.lights.black, (foresight.now, foresight.now), target.matrix[1])
    except np.linalg.LinAlgError:
        return None


def _much(off: Floats, least: float) -> set[str]:
    """Return the roles of what colours are off by much in: how far they are apart (2,), and the least saturation left to others."""
    is_off = {"tint": abs(off[ANGLE]) > TURNED, "saturation": not np.log(least) < off[SCALE] < np.log(TOO_MUCH)}
    return {role for role, is_much in is_off.items() if is_much}


def _look(desk: Desk, target: Target, hold: tuple[float, float], pale: list[Fraction]) -> Procedure[Floats]:
    read = yield from desk.reads(pale)
    return _apart(np.array([t.fraction for t in read]), np.array([t.xyz for t in read]), target, hold)


def _turn(
    desk: Desk, target: Target, hold: tuple[float, float], control: dict[str, Any], pale: list[Fraction], seen: Floats, part: int
) -> Procedure[Floats | None]:
    """Turn a control until nothing of what pale colours are off by is left; return how they are apart then (2,), None where it
    does nothing. ``seen``: how they are now.

    Saturation by a share of where it stands first, as most menus mean it, tint by a little.
    """
    turn, usual, off = control_of(control, control["value"]), control["value"], float(seen[part])
    if turn is None or turn.low >= turn.high:
        return None
    down, up = turn.room
    guess = np.expm1(-off) * (turn.value - turn.low) if part == SCALE else PROBE * (turn.high - turn.low)
    steps = int(np.clip(round(guess / turn.step), down, up)) or (down if part == ANGLE and not up else 0)
    if not steps:
        return None
    yield from desk.say("all colours at once")
    try:
        yield from desk.set(control, turn.moved(steps).value)
        now = yield from _look(desk, target, hold, pale)
    except ENDS:
        yield from desk.set(control, usual)
        raise
    came = float((now - seen)[part])
    if abs(came) < LEAST_CAME[control["role"]] * abs(off):
        yield from desk.set(control, usual)
        return None
    wanted = int(np.clip(round(-off * steps / came), down, up))
    yield from desk.set(control, turn.moved(wanted).value)
    made: Floats = seen + (now - seen) * wanted / steps
    return made


def _apart(fraction: Floats, xyz: Floats, target: Target, hold: tuple[float, float]) -> Floats:
    """Return how far colours XYZ (n, 3) in cd/m² are from grey in the three lights beside how far they should be, by its logarithm,
    and by how many radians they are turned about grey (2,).
    """
    seen, wanted = (v @ target.inverse_matrix.T / hold[0] for v in (xyz, target.xyz(fraction, *hold)))
    apart, should = (v - (v @ target.matrix[1])[:, None] for v in (seen, wanted))
    turned = np.roll(should, 1, axis=1) - np.roll(should, -1, axis=1)
    along, across = (float((apart * way).sum() / (should**2).sum()) for way in (should, turned / np.sqrt(3.0)))
    return np.array([np.log(max(along, LEAST_SCALE)), np.arctan2(across, max(along, LEAST_SCALE))])
