"""The trail: seven stops, each with one fact in words, computed from the data and never ticked by hand."""

from collections import Counter
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from django.db.models import Prefetch, QuerySet
from django.utils import timezone
from django.utils.safestring import SafeString, mark_safe

from fenvik.web.controls.history import History
from fenvik.web.controls.models import ControlChange, Moment, SettingsSheet
from fenvik.web.controls.values import Values, shown, values_from
from fenvik.web.corrections.judging import misfit
from fenvik.web.groundwork.models import CheckAnswer
from fenvik.web.groundwork.state import Row, rows_of
from fenvik.web.groundwork.words import warm_up_fact
from fenvik.web.handovers.models import Handover
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from fenvik.web.results.proof import counted, proof, short_of, unfinished

SHOWN_OF_A_PURPOSE = 2
OF_A_PASS = ("correction", "reference", "circumstance")
STOPS = {
    "arrival": "Arrival",
    "groundwork": "Groundwork",
    "instruments": "Instruments",
    "found": "As found",
    "adjust": "Adjust",
    "left": "As left",
    "handover": "Handover",
}


@dataclass(frozen=True)
class Stop:
    """One stop: whether what it is for is there, and its fact."""

    id: str
    name: str
    done: bool
    fact: str


@dataclass(frozen=True)
class Trail:
    """The stops of a tuning; ``next`` is the first that still wants something."""

    stops: list[Stop]
    found: dict[str, Any] | None
    left: dict[str, Any] | None

    @cached_property
    def next(self) -> Stop:
        """The stop where the next useful act is."""
        return next((stop for stop in self.stops if not stop.done), self.stops[-1])

    @cached_property
    def dots(self) -> SafeString:
        """The stops as seven dots: a list shows hundreds, so they are not drawn by a loop of the template."""
        marks = ("done" if stop.done else "next" if stop is self.next else "" for stop in self.stops)
        return mark_safe("".join(f'<i class="{mark}"></i>' for mark in marks))


def with_lists(tuning: Any) -> Any:
    """Bring the lists and meters of a tuning's passes that are shown: open ones, the newest two of each purpose, what is named.

    A tuning that was measured a hundred times has megabytes of them, which would be kept with it.
    """
    counted_of: Counter[str] = Counter()
    wanted = []
    for pass_ in sorted(tuning.main_passes, key=lambda p: p.pk, reverse=True):
        counted_of[pass_.purpose] += 1
        if pass_.is_open or counted_of[pass_.purpose] <= SHOWN_OF_A_PURPOSE or pass_.named_at is not None:
            wanted.append(pass_.pk)
    told = Pass.objects.filter(pk__in=wanted).values_list("pk", "patches", "meter_facts") if wanted else ()
    lists = {pk: (patches, facts) for pk, patches, facts in told}
    for pass_ in tuning.main_passes:
        if pass_.pk in lists:
            pass_.patches, pass_.meter_facts = lists[pass_.pk]
    return tuning


def with_trails(tunings: QuerySet[Any], *, whole: bool = False) -> QuerySet[Any]:
    """Add to tunings what their trails need: a number of queries that does not grow with the rows.

    The passes' lists and meters stay in the database: ``with_lists`` brings those that the one tuning that is shown needs.
    """
    passes: QuerySet[Any] = Pass.objects.exclude(purpose__in=(PassPurpose.ADJUST, PassPurpose.AIM), finished_at__isnull=False)
    passes = counted(passes.filter(removed_at__isnull=True))
    return (
        tunings.select_related(
            "visit__client",
            "display__room",
            "display__menu_map",
            "display__link__pairing",
            "meter",
            "source",
            "correction",
        )
        .defer("correction__rows")
        .prefetch_related(
            Prefetch(
                "sheets", SettingsSheet.objects.filter(moment=Moment.FOUND).order_by("-at"), to_attr="found_sheets"
            ),
            Prefetch(
                "passes",
                (passes.select_related(*OF_A_PASS) if whole else passes).defer("patches", "meter_facts"),
                to_attr="main_passes",
            ),
            Prefetch("answers", CheckAnswer.objects.order_by("id"), to_attr="ordered_answers"),
            Prefetch("changes", ControlChange.objects.order_by("id"), to_attr="ordered_changes"),
            Prefetch(
                "visit__handovers",
                Handover.objects.filter(withdrawn_at__isnull=True).order_by("-created_at").defer("content"),
                to_attr="standing_handovers",
            ),
        )
    )


def white_words(summary: dict[str, Any]) -> str:
    """Return how white is off, in words."""
    cct, wanted = summary.get("cct"), summary.get("target_cct")
    white = "its peak" if summary.get("hdr") else "white"
    if cct is None or wanted is None:
        return f"{white} far from any daylight"
    off = cct - wanted
    if abs(off) < 75:
        return f"{white} at {cct:.0f} K"
    return f"{white} {abs(off):.0f} K too {'blue' if off > 0 else 'red'}"


def _mean(summary: dict[str, Any] | None) -> str:
    value = None if summary is None else summary.get("grey_mean")
    return "–" if value is None else f"{value:.1f}"


def _pass_words(pass_: Any) -> str:
    words: dict[str, str] = {
        PassState.QUEUED: "about to start",
        PassState.RUNNING: "reading",
        PassState.PAUSED: "paused",
        PassState.WAITING: "waiting for a device",
    }
    return f"{words.get(pass_.state, pass_.state)}: {pass_.read} of {pass_.patch_count}"


def trail_of(tuning: Any) -> Trail:
    """Return the trail of a tuning that came through ``with_trails``."""
    passes = tuning.main_passes
    found, left = proof(passes, PassPurpose.FOUND), proof(passes, PassPurpose.LEFT)
    open_pass = next((p for p in passes if p.is_open), None)
    sheet = tuning.found_sheets[0] if tuning.found_sheets else None
    handover = next((h for h in tuning.visit.standing_handovers if tuning.pk in h.tuning_ids), None)
    stops = [
        _arrival(tuning, sheet),
        _groundwork(tuning, values_from(tuning, sheet, tuning.ordered_changes)),
        _instruments(tuning),
        _measured("found", found, unfinished(passes, PassPurpose.FOUND)),
        _adjust(tuning, open_pass, left),
        _measured("left", left, unfinished(passes, PassPurpose.LEFT)),
        Stop("handover", STOPS["handover"], handover is not None,
             "made, link is open" if handover else "not made yet"),
    ]  # fmt: skip
    return Trail(stops, None if found is None else found.summary, None if left is None else left.summary)


def _arrival(tuning: Any, sheet: SettingsSheet | None) -> Stop:
    if sheet is not None:
        return Stop("arrival", STOPS["arrival"], True, f"{len(sheet.values)} settings noted as found")
    known = tuning.display.menu_map is not None and tuning.display.menu_map.controls
    return Stop("arrival", STOPS["arrival"], False, "settings not noted yet" if known else "the menu is not known yet")


def _groundwork(tuning: Any, values: Values) -> Stop:
    warm = warm_up_fact(tuning.main_passes, timezone.now())
    if any(p.is_open and p.purpose == PassPurpose.WARM_UP for p in tuning.main_passes):
        return Stop("groundwork", STOPS["groundwork"], False, warm)
    if values.controls and values.found is None:
        return Stop("groundwork", STOPS["groundwork"], False, "waits for the settings")
    rows = rows_of(tuning, values, tuning.ordered_answers)
    todo = [row for row in rows if not row.is_done]
    if todo:
        first = next((row for row in todo if row.state == "wrong"), todo[0])
        more = f", {len(todo) - 1} more" if len(todo) > 1 else ""
        return Stop("groundwork", STOPS["groundwork"], False, f"{_todo_words(first)}{more}")
    return Stop(
        "groundwork",
        STOPS["groundwork"],
        True,
        f"{len(rows)} checks done{f', {warm}' if warm else '; warm-up not watched'}",
    )


def _todo_words(row: Row) -> str:
    if row.warning:
        return f"{row.check.name.lower()} does not fit"
    if row.state == "wrong" and row.control is not None:
        at = "" if row.control["kind"] == "switch" else "at "
        return f"{row.control['label']} is {at}{shown(row.now)}"
    return f"{row.check.name} not looked at"


def _instruments(tuning: Any) -> Stop:
    if tuning.meter is None or tuning.source is None:
        lacking = "no meter chosen" if tuning.meter is None else "no source chosen"
        return Stop("instruments", STOPS["instruments"], False, lacking)
    if tuning.correction:
        less = ", which fits less" if misfit(tuning.correction, tuning, timezone.now()) else ""
        how = f"corrected by {tuning.correction.reference_name}{less}"
    else:
        how = "a reference itself" if tuning.meter.facts.get("kind") == "spectroradiometer" else "uncorrected"
    return Stop("instruments", STOPS["instruments"], True, f"{tuning.meter.name}, {how}; {tuning.source.name}")


def _measured(stop: str, pass_: Any, begun: Any) -> Stop:
    """``pass_`` is the proof, ``begun`` a newer one that is not complete."""
    if begun is not None and begun.is_open:
        return Stop(stop, STOPS[stop], False, _pass_words(begun))
    if pass_ is None:
        said = "not measured yet" if begun is None else f"stopped after {begun.read} of {begun.patch_count}"
        return Stop(stop, STOPS[stop], False, said)
    if pass_.summary is None:
        return Stop(stop, STOPS[stop], False, f"{pass_.read} patches read, no white among them")
    fact = f"{white_words(pass_.summary)}, average error {_mean(pass_.summary)}"
    lacks = short_of(pass_)
    return Stop(stop, STOPS[stop], True, f"{fact}; {lacks}" if lacks else fact)


def _is_groundwork(role: str) -> bool:
    return role.startswith("process.") or role in ("black-level", "white-level", "saturation", "tint")


def _adjust(tuning: Any, open_pass: Any, left: Pass | None) -> Stop:
    undone = {c.undoes_id for c in tuning.ordered_changes if c.undoes_id}
    menu = tuning.display.menu_map
    groundwork = {c["id"] for c in (menu.controls if menu else []) if _is_groundwork(c.get("role") or "")}
    changes = [c for c in tuning.ordered_changes if c.control not in groundwork]
    standing = [c for c in changes if c.undoes_id is None and c.pk not in undone]
    if open_pass is not None and open_pass.purpose == PassPurpose.HANDS_FREE:
        return Stop("adjust", STOPS["adjust"], False, f"whole job: {open_pass.read} readings")
    if open_pass is not None and open_pass.purpose == PassPurpose.ADJUST:
        return Stop("adjust", STOPS["adjust"], False, "reading")
    if not standing:
        fact = "nothing turned" if left is not None else "not begun"
        return Stop("adjust", STOPS["adjust"], left is not None, fact)
    turned = History(None, changes).turned
    if not turned:
        return Stop("adjust", STOPS["adjust"], left is not None, "turned, and all put back")
    moves = len({c.group for c in standing if c.control in turned})
    fact = f"{len(turned)} control{'s' if len(turned) > 1 else ''} turned in {moves} moves"
    return Stop("adjust", STOPS["adjust"], left is not None, fact.replace("in 1 moves", "in 1 move"))
