"""The last readings of a tuning, fetched once for everything that a page makes of them."""

from django.db.models import F

from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.visits.models import Tuning

MOST, FOR_THE_TAPE = 400, 40


def recent_readings(tuning: Tuning, most: int = MOST) -> list[Reading]:
    """Return the last readings, oldest first, each with its pass: two queries. The tape alone needs few of them.

    The lists of patches stay in the database; without that each row would bring its pass's whole list along.
    """
    loaded = (
        Pass.objects.filter(tuning=tuning).select_related("correction").defer("patches", "summary", "correction__rows")
    )
    passes = {pass_.pk: pass_ for pass_ in loaded}
    by = dict(Pass.objects.filter(tuning=tuning, purpose=PassPurpose.CORRECTION).values_list("pk", "patches"))
    # Ordered by what is no column: by the column itself, and few rows wanted, PostgreSQL would walk all readings of all firms
    # backwards until it has met enough of these passes.
    rows = list(Reading.objects.filter(pass_of__in=passes).order_by((F("id") + 0).desc())[:most])
    for row in rows:
        row.pass_of = passes[row.pass_of_id]
        steps = by.get(row.pass_of_id)
        if steps and row.index < len(steps) and steps[row.index].get("by") == "reference":
            row.label = f"ref. {row.label}"
    return rows[::-1]
