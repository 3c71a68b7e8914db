"""A survey of the modes or presets of a display: the same few patches in each, so that the best start is chosen and not guessed."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.core.analysis.standing import Standing, best_of, standing_of
from fenvik.core.errors import FenvikError, NoWhiteError
from fenvik.core.signal.patches import Patch, full_colours, grey
from fenvik.link.display import LONGEST_LABEL, modes_named, modes_told_apart
from fenvik.web.controls.values import values_of
from fenvik.web.devices.displays import paired
from fenvik.web.devices.standing import is_paired
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.sending import fine_enough, stage_of
from fenvik.web.passes.services import How, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import core_readings
from fenvik.web.visits.models import WHOLE, Tuning

MOST_PLACES = 60
CHOICES = {"presets": ("white-preset", "colour temperatures"), "gamma": ("gamma", "gammas")}  # a control's role, and what it has
SETTLES_S = 3.0  # a display that changes its mode shows the new one after a moment
PASSED_OVER = "passed_over"  # the entry of a place that could not be read: why
GREYS_SDR, GREYS_PQ = (75.0, 50.0, 25.0), (58.0, 44.0, 28.0)  # percent of signal
LIGHT = 100.0  # cd/m² of white at which an HDR mode's primaries are read


class SurveyError(FenvikError):
    """A survey of nothing, or of a display that does not say what it has."""

    code = "survey"


@dataclass(frozen=True)
class Line:
    """One mode or preset as it was read: how it stands, None while it is not read whole; whether it is the best start."""

    at: dict[str, Any]
    read: int
    standing: Standing | None
    best: bool = False


def patches_of(tuning: Tuning) -> list[Patch]:
    """Return white, three greys and the primaries as a tuning's signal carries them."""
    bits, range_ = tuning.bits, tuning.range
    stage = stage_of(tuning) if tuning.target.is_hdr and tuning.signal != "hlg" else None
    greys = [grey(level, bits, range_) for level in (100.0, *(GREYS_SDR if stage is None else GREYS_PQ))]
    if stage is None:
        return [*greys, *full_colours(100.0, bits, range_)[:3]]
    light = min(LIGHT, 0.3 * stage.peak)
    mixes = (("red", (1.0, 0.0, 0.0)), ("green", (0.0, 1.0, 0.0)), ("blue", (0.0, 0.0, 1.0)))
    return [*greys, *(stage.coloured(name, mix, 1.0, light, bits, range_) for name, mix in mixes)]


def _modes(tuning: Tuning, named: str) -> list[dict[str, Any]]:
    if is_paired(tuning.display):
        with paired(tuning.display) as line:
            modes = [m for m in line.modes() if tuning.signal in m.signals]
        called = modes_told_apart(modes)
        chosen, nameless = modes_named(modes, named)
        if nameless:
            raise SurveyError(f"The display has no mode {nameless[0]} for this signal: name it as the display does.")
        return [{"mode": mode.id, "label": called[mode.id]} for mode in chosen]
    labels = dict.fromkeys(part.strip()[:60] for part in named.replace(";", ",").split(",") if part.strip())
    return [{"label": label, "hold": f"Choose the mode {label} in the menu, then go on."} for label in labels]


def _choices(tuning: Tuning, what: str) -> list[dict[str, Any]]:
    role, words = CHOICES[what]
    control = next((c for c in values_of(tuning).controls if c.get("role") == role and c["kind"] == "choice"), None)
    if control is None:
        raise SurveyError(f"This menu has no choice of {words} that Fenvik knows of.")
    linked = is_paired(tuning.display) and bool(tuning.mode_id)
    made: list[dict[str, Any]] = []
    for option in control["options"]:
        how = {"control": control["id"], "value": option} if linked else {
            "hold": f"Set {control['label']} to {option} in the menu, then go on."
        }  # fmt: skip
        made.append({"label": option, "preset": control["id"], "of": what, **how})
    return made


@needs(Right.MEASURE, "surveyed modes")
def survey(*, tuning_id: int, actor: User, now: datetime, what: str, named: str = "") -> Pass:
    """Read white, three greys and the primaries of every mode, preset or gamma in one go, over the link or with a word before each.

    ``named``: modes with commas between them; over a link all of the signal without it.
    Raises SurveyError, and what ``paired`` and ``start_pass`` raise.
    """
    related = ("display__link__pairing", "display__menu_map", "source")
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related(*related).get(pk=tuning_id)
    fine_enough(tuning)  # before codes are made
    places = _choices(tuning, what) if what in CHOICES else _modes(tuning, named)
    if not 2 <= len(places) <= MOST_PLACES:
        words = CHOICES[what][1] if what in CHOICES else "modes"
        how = "" if what in CHOICES else "; name them with commas between"
        here = "here is 1" if len(places) == 1 else f"here are {len(places)}"
        raise SurveyError(f"A survey compares 2 to {MOST_PLACES} {words}, and {here}{how}.")
    rows: list[dict[str, Any]] = []
    for place in places:
        at = {k: v for k, v in place.items() if k != "hold"}
        for i, patch in enumerate(patches_of(tuning)):
            row: dict[str, Any] = patch.as_json() | {"part": "survey", "at": at}
            row["label"] = f"{patch.label}, {place['label']}"[:LONGEST_LABEL]
            if i == 0:
                row |= {"wait_s": SETTLES_S} | ({"hold": place["hold"]} if "hold" in place else {})
            rows.append(row)
    started: Pass = start_pass(
        tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.SURVEY, patches=[], how=How(rows=rows)
    )
    return started


def lines_of(pass_: Pass) -> list[Line]:
    """Return what a survey has read, place by place in the display's order."""
    newest: dict[int, Reading] = {row.index: row for row in pass_.readings.order_by("id")}
    places: list[tuple[dict[str, Any], list[int]]] = []
    for i, row in enumerate(pass_.patches):
        if not places or places[-1][0] != row["at"]:
            places.append((row["at"], []))
        places[-1][1].append(i)
    lines = []
    for at, indices in places:
        rows = [newest[i] for i in indices if i in newest]
        standing = None
        if len(rows) == len(indices) and PASSED_OVER not in at:
            try:
                standing = standing_of(core_readings(pass_, rows), pass_.tuning.target)
            except NoWhiteError:
                standing = None
        lines.append(Line(at, len(rows), standing))
    told = [i for i, line in enumerate(lines) if line.standing is not None]
    best = best_of([s for line in lines if (s := line.standing) is not None])
    return [Line(x.at, x.read, x.standing, best is not None and told[best] == i) for i, x in enumerate(lines)]


@needs(Right.MEASURE, "chose the mode to start from")
@transaction.atomic
def start_from(*, tuning_id: int, actor: User, label: str, mode: str) -> Tuning:
    """Let a tuning be for the mode that a survey has shown to be the best start, as long as nothing was measured in another one.

    Raises SurveyError.
    """
    tuning = Tuning.objects.of_firm(actor.firm_id).select_for_update(of=WHOLE).get(pk=tuning_id)
    if not label.strip():
        raise SurveyError("Which mode? It needs its name.")
    read = tuning.passes.filter(purpose__in=(PassPurpose.FOUND, PassPurpose.LEFT, PassPurpose.HANDS_FREE)).exists()
    if label.strip().lower() != tuning.picture_mode.lower() and (read or tuning.sheets.exists()):
        raise SurveyError(
            f"{tuning.name} was noted or measured in {tuning.picture_mode}. "
            f"Add a tuning for {label.strip()[:60]} to the visit instead."
        )
    tuning.picture_mode, tuning.mode_id = label.strip()[:60], mode[:LONGEST_LABEL]
    tuning.save(update_fields=["picture_mode", "mode_id"])
    notify(tuning_id)
    return tuning
