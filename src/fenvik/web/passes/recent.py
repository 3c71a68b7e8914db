"""The last readings of a tuning, fetched once for everything that a page makes of them."""

from collections.abc import Sequence
from typing import Any

from django.db.models import F, QuerySet

from fenvik.web.kit.keeping import Kept
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.visits.models import Tuning

MOST, FOR_THE_TAPE = 400, 40
MOST_REPEATED = 2000  # how far back a long reading on is looked through


def recent_readings(tuning: Tuning, most: int = MOST) -> list[Reading]:
    """Return the last readings, oldest first, each with its pass. The tape alone needs few of them.

    Reading on at a level brings hundreds that say the same: of these only the newest are loaded, and the first of each state of
    the controls, so that they never push out the levels that were read before.
    The lists of patches stay in the database; without that each row would bring its pass's whole list along.
    """
    key = None if tuning.version is None else (tuning.pk, tuning.version[0])
    passes, by = _passes_of(tuning) if key is None else _passes.get(key, lambda: _passes_of(tuning))
    repeated = [pass_.pk for pass_ in passes.values() if pass_.repeat]
    if most > FOR_THE_TAPE:
        # Ladders and whites for drift speak for nothing, and would push out what does.
        single = [pk for pk, pass_ in passes.items() if pk not in repeated and not pass_.is_file]
        found = {row.pk: row for row in _newest(Reading.objects.filter(pass_of__in=single, part="main"), most)}
        found |= {row.pk: row for row in _newest(Reading.objects.filter(pass_of__in=passes), FOR_THE_TAPE)}
        found |= {row.pk: row for row in Reading.objects.filter(pk__in=_firsts(repeated))}
        rows = sorted(found.values(), key=lambda row: row.pk)
    else:
        rows = _newest(Reading.objects.filter(pass_of__in=passes), most)
    for row in rows:
        row.pass_of = passes[row.pass_of_id]
        steps = by.get(row.pass_of_id)
        if steps and row.index < len(steps) and steps[row.index].get("by") == "reference":
            row.label = f"ref. {row.label}"
    return rows


Passes = tuple[dict[int, Pass], dict[int, list[dict[str, Any]]]]
_passes: Kept[Passes] = Kept(100)  # while one runs they stay the same from reading to reading


def _passes_of(tuning: Tuning) -> Passes:
    """Return the passes of a tuning, and the patches of those that make a correction."""
    loaded = (
        Pass.objects.filter(tuning=tuning, removed_at__isnull=True)
        .select_related("correction")
        .defer("patches", "summary", "correction__rows")
    )
    by = dict(Pass.objects.filter(tuning=tuning, purpose=PassPurpose.CORRECTION).values_list("pk", "patches"))
    return {pass_.pk: pass_ for pass_ in loaded}, by


def forget() -> None:
    """Forget what is kept between requests: for tests, whose databases begin anew."""
    _passes.clear()


def _newest(readings: QuerySet[Reading], most: int) -> list[Reading]:
    # Ordered by what is no column: by the column itself, and few rows wanted, PostgreSQL would walk all readings of all firms
    # backwards until it has met enough of these passes.
    return list(readings.order_by((F("id") + 0).desc())[:most])[::-1]


def _firsts(repeated: Sequence[int]) -> list[int]:
    """Return the first reading of each patch in each state of the controls, of passes that read on."""
    told = Reading.objects.filter(pass_of__in=repeated).order_by((F("id") + 0).desc())
    # Newest first, so that the oldest of each state is what stays.
    firsts = {tuple(state): pk for pk, *state in told.values_list("pk", "pass_of_id", "knew", "r", "g", "b")[:MOST_REPEATED]}
    return list(firsts.values())
