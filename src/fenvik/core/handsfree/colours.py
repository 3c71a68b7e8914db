"""Six colours by attribute or by mixing: probed, then moved on full and half-saturated patches together."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core import difference
from fenvik.core.colourspace import xyz_to_xy
from fenvik.core.handsfree.rig import Desk, Taken
from fenvik.core.target import Target
from fenvik.core.types import Floats

HUES = {
    "red": (1, 0, 0),
    "green": (0, 1, 0),
    "blue": (0, 0, 1),
    "cyan": (0, 1, 1),
    "magenta": (1, 0, 1),
    "yellow": (1, 1, 0),
}
TOP, HALF = 75.0, 37.5  # percent of signal: a full colour, and the other lights of the half-saturated one
DEAD = 0.35  # of a difference that a probe must move, or the control does nothing
PROBE = 1.6  # differences that a probe should move
DOUBT, PRICE = 0.15, 0.004
ROUNDS = 4
LACKING = 1.5  # of a difference in lightness: what is worth a sentence
GOOD = 0.45  # of a difference in lightness, chroma or hue: better is not chased


@dataclass
class Hue:
    """One colour: its controls, what one step of each does to the differences of both patches, and where it stands."""

    name: str
    controls: list[dict[str, Any]]
    slope: Floats  # (6, k), or six for each of several colours
    now: Floats  # (6,) likewise: full then half, each ΔL, ΔC, ΔH weighted
    dead: list[bool]


def patches_of(name: str) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    """Return the full and the half-saturated patch of a hue, in percent of signal."""
    mix = HUES[name]
    full = tuple(TOP if lit else 0.0 for lit in mix)
    half = tuple(TOP if lit else HALF for lit in mix)
    return full, half  # type: ignore[return-value]


def parts(taken: Taken, target: Target, hold: tuple[float, float]) -> Floats:
    """Return the signed, weighted differences (3,) of a reading in lightness, chroma and hue."""
    wanted = target.xyz(np.clip(taken.fraction, 0, 1)[None], *hold)
    p = difference.whole(wanted, taken.xyz[None], target.white * hold[0])
    return np.array([float(p.lightness[0]), float(p.chroma[0]), float(p.hue[0])])


def adjust(desk: Desk, target: Target, hold: tuple[float, float]) -> None:
    """Adjust what colour management there is; a control that does nothing is left alone and said."""
    _gamut(desk, target)
    groups = {name: [c for c in desk.by_role(f"colour.{name}") if c["kind"] == "range"] for name in HUES}
    groups = {name: controls for name, controls in groups.items() if controls}
    if not groups:
        _overall(desk, target, hold)
        return
    desk.say("colours")
    hues = [_first(desk, target, hold, name, controls) for name, controls in groups.items()]
    most = max(len(h.controls) for h in hues)
    for i in range(most):
        # Neighbours take each other along: of two that touch only one is probed at a time.
        for group in (("red", "green", "blue"), ("cyan", "magenta", "yellow")):
            chosen = [h for h in hues if h.name in group and i < len(h.controls)]
            if chosen:
                _probe(desk, target, hold, chosen, i)
    for hue in hues:
        gone = [c["label"] for c, dead in zip(hue.controls, hue.dead, strict=True) if dead]
        if len(gone) == len(hue.controls):
            desk.notes.append(f"The controls of {hue.name} do nothing that a reading can tell; they were left alone.")
    try:
        _rounds(desk, target, hold, hues)
    finally:
        dim = [hue.name for hue in hues if hue.now[0] < -LACKING and not all(hue.dead)]
        if dim:
            desk.notes.append(f"Too dark beside this white, and their controls give no more light: {', '.join(dim)}.")


def _rounds(desk: Desk, target: Target, hold: tuple[float, float], hues: list[Hue]) -> None:
    for turn in range(ROUNDS):
        moved = [done for hue in hues if (done := _move(desk, hue, last=turn == ROUNDS - 1)) is not None]
        if not moved or turn == ROUNDS - 1:
            break
        for hue, steps in moved:
            _look(desk, target, hold, hue, steps)


def _overall(desk: Desk, target: Target, hold: tuple[float, float]) -> None:
    """Set saturation and tint of all colours at once, where there is nothing for single ones; what makes it worse goes back."""
    controls = [
        c for role in ("saturation", "tint") for c in desk.by_role(role) if c["kind"] == "range" and c["role"] == role
    ]
    if not controls:
        desk.notes.append("This mode has no colour management that can be set.")
        return
    desk.say("saturation and tint")
    mixes = [patch for name in ("red", "green", "blue") for patch in patches_of(name)]

    def look() -> Floats:
        return np.concatenate([parts(desk.read(p), target, hold) for p in mixes])

    now = look()
    hue = Hue("all", controls, np.zeros((len(now), len(controls))), now, [False] * len(controls))
    for i, control in enumerate(controls):
        was = control["value"]
        span = (float(control["max"]) - float(control["min"])) / float(control["step"])
        way = (
            1.0
            if float(control["max"]) - float(was) >= 0.25 * (float(control["max"]) - float(control["min"]))
            else -1.0
        )
        try:
            desk.set(control, float(was) + way * max(round(0.08 * span), 1) * float(control["step"]))
            steps = (float(control["value"]) - float(was)) / float(control["step"])
            effect = look() - now
            hue.dead[i] = not steps or float(np.abs(effect).max()) < DEAD
            hue.slope[:, i] = 0.0 if hue.dead[i] else effect / steps
        finally:
            desk.set(control, was)
    before = {c["id"]: c["value"] for c in controls}
    if _move(desk, hue, last=False) is None:
        return
    if float((look() ** 2).sum()) > float((now**2).sum()):
        for control in controls:
            desk.set(control, before[control["id"]])
        return
    told = ", ".join(f"{control['label']} {control['value']}" for control in controls)
    desk.notes.append(f"All colours at once: {told}.")


def _gamut(desk: Desk, target: Target) -> None:
    choices = [c for c in desk.by_role("gamut") if c["kind"] == "choice" and 1 < len(c.get("options", [])) <= 6]
    if not choices:
        return
    control, usual, off = choices[0], choices[0]["value"], {}
    wanted = target.matrix.T
    for option in control["options"]:
        desk.set(control, option)
        read = [desk.read(tuple(100.0 * v for v in HUES[name])) for name in ("red", "green", "blue")]
        off[option] = float(np.hypot(*(xyz_to_xy(np.array([t.xyz for t in read])) - xyz_to_xy(wanted)).T).mean())
    best = min(off, key=lambda o: off[o])
    desk.set(control, best if off[best] < 0.9 * off[usual] else usual)
    if control["value"] != usual:
        desk.notes.append(f"{control['label']}: {control['value']} lies nearest to the target's colours.")


def _first(desk: Desk, target: Target, hold: tuple[float, float], name: str, controls: list[dict[str, Any]]) -> Hue:
    full, half = patches_of(name)
    now = np.concatenate([parts(desk.read(p), target, hold) for p in (full, half)])
    return Hue(name, controls, np.zeros((6, len(controls))), now, [False] * len(controls))


def _probe(desk: Desk, target: Target, hold: tuple[float, float], hues: list[Hue], i: int) -> None:
    """Move control i of every hue by a step that shows, read each hue's full patch, and put them back."""
    before = {}
    for hue in hues:
        control = hue.controls[i]
        span = float(control["max"]) - float(control["min"])
        room_up = float(control["max"]) - float(control["value"])
        way = 1.0 if room_up >= 0.5 * span - 1e-9 else -1.0
        before[hue.name] = control["value"]
        desk.set(
            control,
            float(control["value"])
            + way * max(round(0.14 * span / float(control["step"])), 1) * float(control["step"]),
        )
    try:
        for hue in hues:
            control = hue.controls[i]
            steps = (float(control["value"]) - float(before[hue.name])) / float(control["step"])
            seen = parts(desk.read(patches_of(hue.name)[0]), target, hold)
            effect = seen - hue.now[:3]
            if not steps or float(np.hypot(np.hypot(effect[0], effect[1]), effect[2])) < DEAD:
                hue.dead[i] = True
                continue
            hue.slope[:3, i] = effect / steps
            # Half as saturated, half the effect, until a reading says otherwise.
            hue.slope[3:, i] = 0.5 * effect / steps
    finally:
        # Also when the budget ends here: a probe is never left standing.
        for hue in hues:
            desk.set(hue.controls[i], before[hue.name])


def _move(desk: Desk, hue: Hue, *, last: bool) -> tuple[Hue, Floats] | None:
    """Set what lowers the expected squared difference of both patches; None where nothing does."""
    live = [i for i, dead in enumerate(hue.dead) if not dead]
    if not live or float(np.abs(hue.now).max()) < GOOD:
        return None
    weight = np.tile([1.0, 1.0, 1.0, 0.9, 0.9, 0.9], len(hue.now) // 6)
    a, b = hue.slope[:, live] * weight[:, None], -hue.now * weight
    doubt = (2.0 if last else 1.0) * DOUBT * np.sqrt((a**2).sum(axis=0))
    a, b = np.vstack([a, np.diag(doubt)]), np.concatenate([b, np.zeros(len(live))])
    best = np.linalg.lstsq(a, b, rcond=None)[0]
    limits = [_room(hue.controls[i]) for i in live]
    steps = np.array([np.clip(np.round(v), lo, hi) for v, (lo, hi) in zip(best, limits, strict=True)])

    def cost(s: Floats) -> float:
        return float(((a @ s - b) ** 2).sum() + PRICE * np.abs(s).sum())

    for _ in range(60):
        tries = [steps + d * np.eye(len(live))[k] for k in range(len(live)) for d in (-1.0, 1.0)]
        tries = [t for t in tries if all(lo <= v <= hi for v, (lo, hi) in zip(t, limits, strict=True))]
        better = min(tries, key=cost, default=steps)
        if cost(better) >= cost(steps) - 1e-9:
            break
        steps = better
    if not steps.any() or cost(steps) > cost(np.zeros(len(live))) - 0.02:
        return None
    whole = np.zeros(len(hue.controls))
    for i, step in zip(live, steps, strict=True):
        control = hue.controls[i]
        was = float(control["value"])
        desk.set(control, was + step * float(control["step"]))
        whole[i] = (float(control["value"]) - was) / float(control["step"])
    return hue, whole


def _room(control: dict[str, Any]) -> tuple[float, float]:
    step = float(control["step"])
    return np.ceil((float(control["min"]) - float(control["value"])) / step), np.floor(
        (float(control["max"]) - float(control["value"])) / step
    )


def _look(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue, steps: Floats) -> None:
    """Read both patches again, and learn from what the move did (Broyden); a move that made it worse is taken back."""
    full, half = patches_of(hue.name)
    after = np.concatenate([parts(desk.read(p), target, hold) for p in (full, half)])
    change = after - hue.now
    norm = float(steps @ steps)
    if norm > 0:
        hue.slope += np.outer(change - hue.slope @ steps, steps) / norm
    if float((after**2).sum()) > float((hue.now**2).sum()) + 0.1:
        for control, step in zip(hue.controls, steps, strict=True):
            desk.set(control, float(control["value"]) - step * float(control["step"]))
        return
    hue.now = after
