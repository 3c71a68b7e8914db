"""What groundwork adds to the running of passes: a warm-up watched by a procedure, and a survey
from mode to mode and back to the tuning's own.
"""

import time
from typing import Any

import structlog

from fenvik.core.errors import FenvikError
from fenvik.web.controls.values import values_of
from fenvik.web.devices.displays import paired
from fenvik.web.groundwork.survey import SETTLES_S
from fenvik.web.groundwork.warm import keep_warmth, watching
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose, PassState
from fenvik.web.passes.runner import Runner
from fenvik.web.passes.script import Scripted
from fenvik.web.visits.models import Tuning

log = structlog.get_logger(__name__)


class SurveyRunner(Runner):
    """Runs a survey: over a link each mode or preset is chosen before its patches, and the tuning's own again at the end."""

    at: dict[str, Any] | None = None

    def _come_to_it(self) -> None:
        at = self.row["at"]
        if at != self.at and ("mode" in at or "control" in at):
            self._go(at)
        self.at = at
        super()._come_to_it()

    def _tuning(self) -> Tuning:
        tuning: Tuning = Tuning.objects.select_related("display__room__client", "display__link__pairing", "display__menu_map").get(
            pk=self.plan.pass_.tuning_id
        )
        return tuning

    def _go(self, at: dict[str, Any]) -> None:
        tuning = self._tuning()
        with paired(tuning.display, for_page=False) as line:
            if "mode" in at:
                line.choose(at["mode"])
            else:
                line.set(tuning.mode_id, at["control"], at["value"])
        self.reader.last_shown.clear()
        time.sleep(SETTLES_S if self.at is None and self.plan.pass_.settle_s else 0.0)  # later ones wait by their rows

    def _finish(self, state: PassState) -> None:
        self._back()
        super()._finish(state)

    def _back(self) -> None:
        """Let the display stand as it did. Where it does not hear that, the next pass sees it and says so."""
        first = self.rows[0]["at"] if self.rows else {}
        tuning = self._tuning()
        try:
            if "mode" in first and tuning.mode_id:
                with paired(tuning.display, for_page=False) as line:
                    line.choose(tuning.mode_id)
            elif "control" in first and (stood := values_of(tuning).now.get(first["control"])) is not None:
                with paired(tuning.display, for_page=False) as line:
                    line.set(tuning.mode_id, first["control"], stood)
        except FenvikError as problem:
            log.warning("display not put back after a survey", pass_id=self.plan.pass_.pk, problem=str(problem))


kinds.runners[PassPurpose.SURVEY] = SurveyRunner
kinds.procedures[PassPurpose.WARM_UP] = Scripted(watching, keep_warmth)
