"""What Groundwork shows of whites: a choice with the client, what modes add by themselves, two displays brought together."""

from collections.abc import Sequence
from typing import Any

from django.utils import timezone
from django.utils.safestring import SafeString, mark_safe

from fenvik.charts import whites as chart
from fenvik.core.colour.space import xy_to_uv
from fenvik.core.measure.matching import TRIES
from fenvik.core.models.whitedrive import DriveError
from fenvik.web.clients.models import Display
from fenvik.web.corrections.spectra import look_at, newest_of
from fenvik.web.devices.standing import is_paired
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.stops.scenes import Scene
from fenvik.web.visits.models import Tuning, WhiteCandidate
from fenvik.web.whites import choosing, driving, matching, shifting
from fenvik.web.whites.models import Way

# Letters up to E are those of the whites, digits those of the parts.
ABOUT = (("v", "choose", "a white to choose"), ("o", "shift", "what modes add"), ("l", "match", "like another display"))
OPEN_KEYS = "adfgj"


def offered(tuning: Tuning) -> list[dict[str, Any]]:
    """Return the whites that can be ticked: the standard's, those of the firm, those of other observers; each with its key."""
    rows: list[dict[str, Any]] = [{"key": "standard", "name": "the standard’s white", "why": "", "uv": (0.0, 0.0)}]
    for white in WhiteCandidate.objects.of_firm(tuning.visit.firm_id).order_by("name"):
        fits = white.technology in ("", tuning.display.technology)
        rows.append({"key": f"firm-{white.pk}", "name": white.name, "why": white.why, "uv": (white.du, white.dv), "fits": fits})
    read = newest_of(tuning)
    for name, _, uv in look_at(read).whites if read is not None else ():
        if max(abs(v) for v in uv) > 1e-4:
            rows.append({"key": f"eye-{name}", "name": f"for {name}", "why": "from this display’s spectra", "uv": uv})
    mine = next((part for part in tuning.whites if part.kind == "client"), None)
    if mine is not None and all(row["uv"] != (mine.du, mine.dv) for row in rows):
        rows.append({"key": "now", "name": mine.why or "as it is now", "why": "this tuning’s", "uv": (mine.du, mine.dv)})
    for row in rows:
        row["xy"] = driving.wanted(tuning, row["uv"])
    return rows


def _choose(scene: Scene) -> dict[str, Any]:
    trial = choosing.trial_of(scene.tuning)
    made: dict[str, Any] = {"trial": trial, "offered": offered(scene.tuning), "ways": Way.choices}
    if trial is None:
        return made
    made["candidates"] = [told | {"key": OPEN_KEYS[told["number"]]} for told in choosing.reads(trial)]
    going = trial.ended_at is None
    halves = trial.way == Way.HALVES
    seen = trial.rounds[-1].get("seen", 0) if trial.order else 0
    names = ("left", "right") if halves else choosing.LETTERS[: len(trial.order)]
    made |= {
        "going": going, "letters": _letters(names, halves) if trial.order else [], "seen": seen, "halves": halves,
        "all_seen": bool(trial.order) and seen >= (1 if halves else len(trial.order)),
        "rests": going and trial.blind and bool(trial.order) and trial.place is None and 0 < seen < len(trial.order),
        "at": names[trial.place] if trial.order and trial.place is not None and not halves else "",
        "round": len(trial.picks) + 1, "said": trial.verdict, "least": trial.verdict.left,
        "needs_words": not going and not trial.words and (trial.chosen is not None or trial.blind),
        "taken": _is_taken(scene.tuning, trial),
    }  # fmt: skip
    return made


def _letters(names: Sequence[str], halves: bool) -> list[tuple[int, str, str]]:
    """Return the names of a round's whites by place, with the key of each."""
    return [(i, name, "←→"[i] if halves else name.lower()) for i, name in enumerate(names)]


def _is_taken(tuning: Tuning, trial: Any) -> bool:
    """Whether the tuning's white is what was chosen."""
    if trial.winner is None:
        return False
    now = next(((p.du, p.dv) for p in tuning.whites if p.kind == "client"), (0.0, 0.0))
    return bool(max(abs(a - b) for a, b in zip(now, trial.winner["uv"], strict=True)) < 1e-5)


def _shift(scene: Scene) -> dict[str, Any]:
    tuning = scene.tuning
    newest = next((p for p in tuning.main_passes if p.purpose == PassPurpose.SHIFT), None)
    modes = [] if newest is None else shifting.modes_of(Pass.objects.select_related("correction", "tuning").get(pk=newest.pk))
    taken = next((part for part in tuning.whites if part.kind == "shift"), None)
    choice = next((r for r in scene.values.rows if r.get("role") == "white-preset" and r["kind"] == "choice"), None)
    read = [m for m in modes if not m.passed_over]
    used = {m.preset for m in modes if m.preset}
    return {
        "modes": modes, "free": [name for name in (choice["options"] if choice else []) if used and name not in used],
        "running": newest is not None and newest.is_open, "taken": taken,
        "wanted": shifting.wanted_white(tuning), "presets": choice["options"] if choice else [],
        "linked_display": is_paired(tuning.display), "told": [m for m in modes if m.shift is not None and m.shift.is_told],
        "halfway": shifting.compromise(tuning, read) if len(read) > 1 and all(m.is_own or m.shift for m in read) else None,
    }  # fmt: skip


def _match(scene: Scene) -> dict[str, Any]:
    tuning, now = scene.tuning, timezone.now()
    match = matching.match_going(tuning)
    others = Display.objects.of_firm(tuning.visit.firm_id).exclude(pk=tuning.display_id).select_related("room__client")
    here = others.filter(room__client_id=tuning.display.room.client_id)
    made: dict[str, Any] = {"match": match, "others": list(here or others[:20]), "tries": TRIES, "pairs": matching.pairs_of(tuning)}
    try:
        made["coarse"] = matching.resolution(tuning, now)
    except DriveError:
        made["coarse"] = None
    if match is not None:
        made |= {
            "going": match.ended_at is None, "trying": match.trying, "done": sum("end" in told for told in match.tries),
            "predicted": matching.predicted(tuning, match.reference), "agrees": (match.spread or 0.0) < 0.003,
        }  # fmt: skip
    return made


def _map(scene: Scene, about: str, x: dict[str, Any], stands: tuple[float, float] | None) -> SafeString | str:
    """Return the picture of the whites that are told; of a blind choice that goes on, without what is shown."""
    tuning = scene.tuning
    u, v = (float(value) for value in xy_to_uv(tuning.standard_white))
    marks = []

    def at(uv: Sequence[float]) -> tuple[float, float]:
        return u + uv[0], v + uv[1]

    def by_xy(xy: tuple[float, float]) -> tuple[float, float]:
        a, b = xy_to_uv(xy)
        return float(a), float(b)

    if about == "choose":
        rows = x["candidates"] if x["trial"] and x["going"] else x["offered"]
        marks = [chart.White(row["name"], by_xy(row["xy"]), "candidate") for row in rows]
        if stands is not None:
            marks.append(chart.White("as it stands", at(stands), "now"))
        middle, title = by_xy(driving.wanted(tuning, (0.0, 0.0))), "Whites to choose from"
    elif about == "shift":
        middle, title = by_xy(x["wanted"]), "The white of each mode"
        own = next((m for m in x["modes"] if m.is_own and m.xy), None)
        for mode in x["modes"]:
            if mode.xy is not None:
                came = by_xy(own.xy) if own is not None and not mode.is_own else None
                marks.append(chart.White(mode.label, by_xy(mode.xy), "now" if mode.is_own else "mode", 0.0, came))
    else:
        middle, title = (u, v), "Where both look alike"
        match = x["match"]
        if match is not None and match.du is not None:
            marks = [chart.White(f"try {i}", at(told["end"]), "try") for i, told in enumerate(match.tries, 1) if "end" in told]
            marks.append(chart.White("looks alike", at((match.du, match.dv)), "wanted", match.spread or 0.0))
            marks += [chart.White(name, at(uv), "candidate") for name, uv in x["predicted"]]
    return mark_safe(chart.draw(marks, middle, title=title)) if marks else ""


FILLS = {"choose": _choose, "shift": _shift, "match": _match}


def fill(scene: Scene) -> None:
    """Add what is asked for of whites."""
    about = scene.options.get("about")
    about = about if about in FILLS else "choose"
    tuning = scene.tuning
    try:
        driven, problem = driving.driving_of(tuning, timezone.now()), ""
    except DriveError as error:
        driven, problem = None, str(error)
    newest = next((p for p in tuning.main_passes if p.purpose == PassPurpose.WHITES), None)
    stands = None
    if driven is not None:
        uv = driven.drive.stands_at((1.0, 1.0, 1.0))
        du, dv = (float(a - b) for a, b in zip(uv, xy_to_uv(tuning.standard_white), strict=True))
        stands = (du, dv)
    more = FILLS[about](scene)
    scene.extra |= {
        "about": about, "map": _map(scene, about, more, stands), "abouts": ABOUT, "driven": driven is not None,
        "drive_problem": problem, "stands": stands, "reading": newest is not None and newest.is_open, "chain": tuning.white_chain,
    } | more  # fmt: skip
