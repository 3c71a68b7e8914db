"""What each mode of a display adds to white by itself, read beside the tuning's own; where each ends; what must be aimed at."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from fenvik.core.colour.curves import pq_inverse
from fenvik.core.colour.space import XY, uv_to_xyz, xy_to_uv, xyz_to_uv, xyz_to_xy
from fenvik.core.measure.shift import Shift, base_for, shift_of
from fenvik.core.signal.patches import grey
from fenvik.link.display import LONGEST_LABEL, find_mode, modes_named, modes_told_apart
from fenvik.web.devices.displays import paired
from fenvik.web.devices.standing import is_paired
from fenvik.web.groundwork.survey import PASSED_OVER, SETTLES_S
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.sending import fine_enough
from fenvik.web.passes.services import How, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import core_readings
from fenvik.web.visits.models import Tuning
from fenvik.web.visits.white import aim_of
from fenvik.web.whites.driving import WhitesError, is_pq

ROUNDS = 3
LEVELS, LEVELS_CD_M2 = (100.0, 70.0), (120.0, 50.0)  # percent of signal; of PQ the light that it asks for
MOST_MODES = 8
OTHERS = f"Beside this mode come one to {MOST_MODES - 1} others; name them with commas between."
AVERAGE = 4


@dataclass(frozen=True)
class ModeWhite:
    """One mode: its white as x y and how far from what is wanted, what it adds to the tuning's own mode, and the aim for it."""

    label: str
    mode: str
    is_own: bool
    read: int
    of: int
    xy: XY | None = None
    luminance: float | None = None
    far: float | None = None
    shift: Shift | None = None
    aim: XY | None = None
    passed_over: str = ""  # why it could not be read
    preset: str = ""  # the colour temperature that it stood at, where the display said so


@dataclass(frozen=True)
class Compromise:
    """One white for the tuning's own mode for the sake of all: its x y, and how far off the worst mode then ends."""

    aim: XY
    leaves: float
    worst: str


def wanted_white(tuning: Tuning) -> XY:
    """Return the white at which every mode should end: the aim, without what a mode's shift takes out of it."""
    return aim_of(tuning.standard_white, [part for part in tuning.whites if part.kind != "shift"])


def _places(tuning: Tuning, named: str, preset: str) -> list[dict[str, Any]]:
    """Return where whites are read, the tuning's own mode first. Raises WhitesError."""
    if not is_paired(tuning.display):
        labels = dict.fromkeys(part.strip()[:60] for part in named.replace(";", ",").split(",") if part.strip())
        places = [{"label": label} for label in labels if label.lower() != tuning.picture_mode.lower()]
        return [{"label": tuning.picture_mode}, *places]
    with paired(tuning.display) as line:
        modes = [m for m in line.modes() if tuning.signal in m.signals]
        own = find_mode(modes, tuning.mode_id or tuning.picture_mode, tuning.signal)
        if own is None:
            raise WhitesError(f"The display has no mode {tuning.picture_mode} for this signal: name it as the display does.")
        chosen, nameless = modes_named(modes, named)
        if nameless:
            raise WhitesError(f"The display has no mode {nameless[0]} for this signal: name it as the display does.")
        others = [m for m in chosen if m.id != own.id]
        if not 1 <= len(others) < MOST_MODES:  # before the menu of each is read
            raise WhitesError(OTHERS)
        made, called = [], modes_told_apart(modes)
        for mode in (own, *others):
            place: dict[str, Any] = {"label": called[mode.id], "mode": mode.id}
            choices = [c for c in line.controls(mode.id) if c.get("role") == "white-preset" and c["kind"] == "choice"]
            choice = choices[0] if choices else None
            if choice is not None:
                place["preset"] = preset or choice["value"]
            if preset and (choice is None or preset not in choice["options"]):
                raise WhitesError(f"{mode.label} has no colour temperature {preset}.")
            if preset and choice is not None:
                place |= {"control": choice["id"], "value": preset, "had": choice["value"]}
            made.append(place)
    return made


@needs(Right.MEASURE, "read what modes add to white")
def read_shifts(*, tuning_id: int, actor: User, now: datetime, named: str = "", preset: str = "") -> Pass:
    """Read white in every mode turn about, at two levels, three rounds: over the link, or with a word before each.

    ``named``: the modes beside the tuning's own; over the link all of its signal without it. Raises WhitesError, and what
    ``paired`` and ``start_pass`` raise.
    """
    related = ("display__link__pairing", "display__menu_map", "source")
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related(*related).get(pk=tuning_id)
    places = _places(tuning, named, preset)
    if not 2 <= len(places) <= MOST_MODES:
        raise WhitesError(OTHERS)
    fine_enough(tuning)  # before codes are made
    levels = [100.0 * float(pq_inverse(nits)) for nits in LEVELS_CD_M2] if is_pq(tuning) else LEVELS
    rows: list[dict[str, Any]] = []
    for turn in range(ROUNDS):
        for place in places if turn % 2 == 0 else places[::-1]:  # what drifts is not taken for a shift
            for i, level in enumerate(levels):
                shown = grey(round(level, 2), tuning.bits, "full" if tuning.range == "full" else "limited")
                row: dict[str, Any] = dict(shown.as_json()) | {"part": "shift", "at": place, "turn": turn}
                row["label"] = f"{shown.label}, {place['label']}"[:LONGEST_LABEL]
                if i == 0:
                    row["wait_s"] = SETTLES_S
                    if "mode" not in place:
                        row["hold"] = f"Choose the mode {place['label']} in the menu, then go on."
                rows.append(row)
    how = How(rows=rows, average=max(tuning.average, AVERAGE))
    started: Pass = start_pass(tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.SHIFT, patches=[], how=how)
    return started


def modes_of(pass_: Pass) -> list[ModeWhite]:
    """Return what a reading of shifts says of each mode, the tuning's own first."""
    tuning = pass_.tuning
    newest: dict[int, Reading] = {row.index: row for row in pass_.readings.order_by("id")}
    labels = list(dict.fromkeys(row["at"]["label"] for row in pass_.patches))
    own = pass_.patches[0]["at"]["label"]
    wanted = wanted_white(tuning)
    rounds: dict[str, list[np.ndarray[Any, Any]]] = {label: [] for label in labels}
    for label in labels:
        for turn in range(ROUNDS):
            indices = [i for i, row in enumerate(pass_.patches) if row["at"]["label"] == label and row["turn"] == turn]
            if all(i in newest and PASSED_OVER not in pass_.patches[i]["at"] for i in indices) and indices:
                rounds[label].append(core_readings(pass_, [newest[i] for i in indices]).xyz)
    made = []
    for label in labels:
        mine = [i for i, row in enumerate(pass_.patches) if row["at"]["label"] == label]
        at = pass_.patches[mine[0]]["at"]
        facts: dict[str, Any] = {}
        if rounds[label]:
            whites = np.array(rounds[label])
            x, y = xyz_to_xy(uv_to_xyz(xyz_to_uv(whites).mean(axis=(0, 1))))
            facts = {"xy": (float(x), float(y)), "luminance": float(whites[:, 0, 1].mean())}
            facts["far"] = float(np.hypot(*(xy_to_uv(facts["xy"]) - xy_to_uv(wanted))))
        both = min(len(rounds[label]), len(rounds[own]))
        if label != own and both >= 2:
            shift = shift_of(rounds[own][:both], rounds[label][:both])
            facts |= {"shift": shift, "aim": base_for(wanted, shift) if shift.is_told else wanted}
        facts |= {"passed_over": at.get(PASSED_OVER, ""), "preset": at.get("preset", "")}
        read = sum(i in newest for i in mine)
        made.append(ModeWhite(label, at.get("mode", ""), label == own, read, len(mine), **facts))
    return made


def compromise(tuning: Tuning, modes: list[ModeWhite]) -> Compromise | None:
    """Return what is best where modes share one setting of white: halfway between the farthest two; None where none shifts.

    A mode at another colour temperature than the tuning's has a setting of its own, and is left out.
    """
    own = next((m for m in modes if m.is_own), None)
    modes = [m for m in modes if own is not None and m.preset == own.preset]
    shifts = {m.label: np.zeros(2) if m.is_own or m.shift is None or not m.shift.is_told else m.shift.uv for m in modes}
    if not any(np.hypot(*uv) for uv in shifts.values()):
        return None
    told = np.array(list(shifts.values()))
    middle = 0.5 * (told.min(axis=0) + told.max(axis=0))
    ends = {label: float(np.hypot(*(uv - middle))) for label, uv in shifts.items()}
    worst = max(ends, key=lambda label: ends[label])
    x, y = xyz_to_xy(uv_to_xyz(xy_to_uv(wanted_white(tuning)) - middle))
    return Compromise((float(x), float(y)), ends[worst], worst)
