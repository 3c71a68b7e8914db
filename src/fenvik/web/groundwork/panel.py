"""What a display's mapping should know of its panel: read once, sent where the display takes it, or written as a file."""

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from fenvik.core.analysis.ability import Ability, ability_of
from fenvik.core.analysis.panel import PanelError, PanelFacts, panel_of
from fenvik.core.colour.curves import pq_inverse
from fenvik.core.errors import FenvikError
from fenvik.core.signal.patches import full_colours, grey
from fenvik.web.devices.displays import paired
from fenvik.web.devices.leases import see_free
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.sending import fine_enough
from fenvik.web.passes.services import How, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import core_readings
from fenvik.web.visits.models import Tuning

PATCHES = 5
AVERAGE = 2
WINDOWS = (1.0, 2.0, 5.0, 10.0, 18.0, 25.0, 50.0, 75.0, 100.0)  # percent of the area
GREYS = (0.3, 0.36, 0.42, 0.47, *(round(0.5 + 0.02 * i, 2) for i in range(16)), 0.85, 0.92)  # PQ signal; 1 is the first patch
SAME_CD_M2, SAME_IN = 100.0, (2.0, 10.0, 40.0, 100.0)  # of a grey, and the windows that it is read in
HELD, HELD_EVERY_S = 7, 5.0  # readings of one white that stays, and how far apart


class NoPanelError(FenvikError):
    """Facts that nobody has read, or a display that takes none."""

    code = "no_panel"


@dataclass(frozen=True)
class PanelRead:
    """The newest reading of a panel: how far it is, its facts and what it can do once it is whole, or why they are none."""

    pass_: Pass
    read: int
    facts: PanelFacts | None = None
    problem: str = ""
    ability: Ability | None = None


@needs(Right.MEASURE, "read what the panel gives")
def read_panel(*, tuning_id: int, actor: User, now: datetime) -> Pass:
    """Read what the panel gives: its primaries, white and black, its light by window and over time, and greys to its end.

    Raises what ``start_pass`` raises.
    """
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("source", "meter").get(pk=tuning_id)
    fine_enough(tuning)  # before codes are made
    bits, range_ = tuning.bits, tuning.range
    patches = [grey(100.0, bits, range_), *full_colours(100.0, bits, range_)[:3], grey(0.0, bits, range_)]
    rows: list[dict[str, Any]] = [dict(patch.as_json()) | {"part": "panel"} for patch in patches]
    white = dict(grey(100.0, bits, range_).as_json())
    # What heats comes last, the greatest window at the end of it.
    rows += [dict(grey(100.0 * v, bits, range_).as_json()) | {"part": "panel-grey", "signal": v} for v in GREYS]
    for i in range(HELD):
        held = {"part": "panel-held", "label": f"held, {i + 1} of {HELD}"} | ({"wait_s": HELD_EVERY_S} if i else {})
        rows.append(white | held)
    # One grey in small and large windows: where it does not stay what it is, tone mapping follows the picture.
    same = dict(grey(100.0 * float(pq_inverse(SAME_CD_M2)), bits, range_).as_json())
    rows += [same | {"part": "panel-same", "label": f"{SAME_CD_M2:g} cd/m² in {w:g} %", "window": w} for w in SAME_IN]
    rows += [white | {"part": "panel-window", "label": f"{w:g} % window", "window": w} for w in WINDOWS]
    how = How(rows=rows, average=max(tuning.average, AVERAGE))
    made: Pass = start_pass(tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.PANEL, patches=[], how=how)
    return made


def panel_read(tuning: Tuning) -> PanelRead | None:
    """Return what was read last of a tuning's panel; None where nothing was."""
    passes = tuning.passes.filter(purpose=PassPurpose.PANEL).select_related("correction", "tuning").order_by("-id")
    pass_ = passes.first()
    if pass_ is None:
        return None
    newest: dict[int, Reading] = {row.index: row for row in pass_.readings.order_by("id")}
    if not all(i in newest for i in range(PATCHES)):
        return PanelRead(pass_, len(newest))
    order = sorted(newest)
    rows = [newest[i] for i in order]
    xyz = core_readings(pass_, rows).xyz
    xyz = np.where([[row.too_dark] for row in rows], 0.0, xyz)
    try:
        facts = panel_of(xyz[:PATCHES], float(pass_.meter_facts.get("floor") or 0.0))
    except PanelError as problem:
        return PanelRead(pass_, len(newest), None, str(problem))
    parts: dict[str, list[tuple[float, float]]] = {name: [] for name in ("panel-grey", "panel-held", "panel-same", "panel-window")}
    parts["panel-grey"].append((1.0, facts.peak))
    begun = next((row.at for row in rows if pass_.patches[row.index]["part"] == "panel-held"), None)
    for row, seen in zip(rows, xyz, strict=True):
        shown = pass_.patches[row.index]
        if shown["part"] in parts:
            since = 0.0 if begun is None else (row.at - begun).total_seconds()
            at = shown.get("signal") or shown.get("window") or since
            parts[shown["part"]].append((float(at), float(seen[1])))
    ability = None
    if parts["panel-window"]:
        ability = ability_of(
            parts["panel-window"], parts["panel-held"], parts["panel-grey"], xyz[1:4], facts.black,
            black_is_bound=facts.black_is_bound, same=parts["panel-same"],
        )  # fmt: skip
    return PanelRead(pass_, len(newest), facts, "", ability)


def _facts(tuning: Tuning) -> PanelFacts:
    read = panel_read(tuning)
    if read is None or read.facts is None:
        raise NoPanelError("The panel has not been read yet: five readings tell what it is.")
    return read.facts


def takes_panel(tuning: Tuning) -> bool:
    """Whether the tuning's display takes facts of its panel over its link."""
    link = tuning.display.link
    return link is not None and bool((link.facts.get("installs") or {}).get("panel"))


@needs(Right.MEASURE, "sent panel facts")
def send(*, tuning_id: int, actor: User) -> PanelFacts:
    """Send what was read to the display, for the tuning's mode. Raises NoPanelError, and what ``paired`` and the line raise."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("display__link__pairing").get(pk=tuning_id)
    facts = _facts(tuning)
    if not takes_panel(tuning) or not tuning.mode_id:
        raise NoPanelError("This display takes no facts of its panel over the link: write the file, or type them there.")
    see_free(tuning, by_hand=True)
    with paired(tuning.display) as line:
        line.install(tuning.mode_id, "panel", facts.as_link())
    notify(tuning_id)
    return facts


@needs(Right.MEASURE, "took panel facts away")
def take_away(*, tuning_id: int, actor: User) -> None:
    """Let the display's mapping believe of its panel what it did before. Raises as ``send``."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("display__link__pairing").get(pk=tuning_id)
    if not takes_panel(tuning) or not tuning.mode_id:
        raise NoPanelError("This display takes no facts of its panel over the link.")
    see_free(tuning, by_hand=True)
    with paired(tuning.display) as line:
        line.uninstall(tuning.mode_id, "panel")
    notify(tuning_id)


def written(tuning: Tuning) -> str:
    """Return the facts as a plain file: those of the link, with what they are of. Raises NoPanelError."""
    display = tuning.display
    told = {
        "format": "panel-facts", "version": 1, "maker": display.maker, "model": display.model, "serial": display.serial,
        "mode": tuning.picture_mode, **_facts(tuning).as_link(),
    }  # fmt: skip
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"
