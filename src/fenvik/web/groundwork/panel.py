"""What a display's mapping should know of its panel: read once, sent where the display takes it, or written as a file."""

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from fenvik.core.analysis.panel import PanelError, PanelFacts, panel_of
from fenvik.core.errors import FenvikError
from fenvik.core.signal.patches import full_colours, grey
from fenvik.web.devices.displays import paired
from fenvik.web.devices.leases import see_free
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.services import How, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import core_readings
from fenvik.web.visits.models import Tuning

PATCHES = 5
AVERAGE = 2


class NoPanelError(FenvikError):
    """Facts that nobody has read, or a display that takes none."""

    code = "no_panel"


@dataclass(frozen=True)
class PanelRead:
    """The newest reading of a panel: how far it is, its facts once it is whole, or why they are none."""

    pass_: Pass
    read: int
    facts: PanelFacts | None = None
    problem: str = ""


@needs(Right.MEASURE, "read what the panel gives")
def read_panel(*, tuning_id: int, actor: User, now: datetime) -> Pass:
    """Read white, red, green and blue at full drive, and black. Raises what ``start_pass`` raises."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("source", "meter").get(pk=tuning_id)
    bits, range_ = tuning.bits, tuning.range
    patches = [grey(100.0, bits, range_), *full_colours(100.0, bits, range_)[:3], grey(0.0, bits, range_)]
    rows: list[dict[str, Any]] = [dict(patch.as_json()) | {"part": "panel"} for patch in patches]
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
    if len(newest) < PATCHES:
        return PanelRead(pass_, len(newest))
    rows = [newest[i] for i in range(PATCHES)]
    xyz = core_readings(pass_, rows).xyz
    xyz = np.where([[row.too_dark] for row in rows], 0.0, xyz)
    try:
        return PanelRead(pass_, PATCHES, panel_of(xyz, float(pass_.meter_facts.get("floor") or 0.0)))
    except PanelError as problem:
        return PanelRead(pass_, PATCHES, None, str(problem))


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
