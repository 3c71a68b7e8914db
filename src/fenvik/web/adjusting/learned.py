"""What was learned of a model's controls, kept for its next sample."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import datetime

import numpy as np
from django.db.models import QuerySet

from fenvik.core.controls import Control
from fenvik.core.models.twopoint import Response
from fenvik.web.adjusting.models import LearnedResponse
from fenvik.web.visits.models import Tuning


def _of_the_mode(tuning: Tuning) -> QuerySet[LearnedResponse]:
    """Those of one name for another signal are others: many displays call them alike."""
    return LearnedResponse.objects.filter(
        menu_map=tuning.display.menu_map_id, picture_mode=tuning.picture_mode, tuning__signal=tuning.signal
    )


def prior_of(tuning: Tuning, controls: Sequence[Control]) -> Callable[[Sequence[Control]], Response]:
    """Return what says the belief to start from, for controls in any steps: an earlier tuning's with the same menu map, widened,
    or the usual one.
    """
    kept, ids = None, [control.id for control in controls]
    if tuning.display.menu_map_id is not None:
        known = _of_the_mode(tuning)
        kept = known.exclude(tuning=tuning).order_by("-at").first()
    if kept is None or list(kept.controls) != ids:
        return Response.prior
    mean, covariance = np.array(kept.mean), np.array(kept.covariance)

    def earlier(controls: Sequence[Control]) -> Response:
        each = controls[0].every  # it was kept for one step of the menu
        usual = Response.prior(controls)
        return replace(usual, mean=each * mean, covariance=each**2 * covariance).carried()

    return earlier


def learned_version(tuning: Tuning) -> tuple[int, str]:
    """Return what tells whether the belief to start from is another one than before."""
    if tuning.display.menu_map_id is None:
        return 0, ""
    known = _of_the_mode(tuning)
    newest = known.exclude(tuning=tuning).order_by("-at").values_list("pk", "at").first()
    return (0, "") if newest is None else (newest[0], newest[1].isoformat())


def keep(*, tuning: Tuning, response: Response, now: datetime) -> None:
    """Keep what a tuning taught; once more replaces it."""
    if tuning.display.menu_map_id is None or not any(response.observed):
        return
    LearnedResponse.objects.update_or_create(
        tuning=tuning,
        defaults={
            "menu_map_id": tuning.display.menu_map_id,
            "display": tuning.display,
            "picture_mode": tuning.picture_mode,
            "controls": list(response.controls),
            "mean": response.mean.tolist(),
            "covariance": response.covariance.tolist(),
            "observed": list(response.observed),
            "at": now,
        },
    )
