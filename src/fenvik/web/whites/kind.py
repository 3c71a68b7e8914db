"""What whites add to the running of passes: the reading of shifts goes from mode to mode, with one preset in all of them."""

from contextlib import suppress
from typing import Any

import structlog

from fenvik.core.errors import FenvikError
from fenvik.link.display import LinkedDisplay
from fenvik.web.devices.displays import paired
from fenvik.web.groundwork.kind import SurveyRunner, choose, turn
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose

log = structlog.get_logger(__name__)


class ShiftRunner(SurveyRunner):
    """Runs a reading of shifts; presets stand as they stood when it ends."""

    needs_first = True

    def _go(self, line: LinkedDisplay, at: dict[str, Any]) -> None:
        choose(line, at["mode"])
        if "control" in at:
            turn(line, at["mode"], at)

    def _back(self) -> None:
        first = self.rows[0]["at"]
        if "mode" not in first:
            return
        turned = {row["at"]["mode"]: row["at"] for row in self.rows if "control" in row["at"]}
        with suppress(FenvikError), paired(self._tuning().display, for_page=False) as line:
            for at in turned.values():
                self._stand_as_before(line, at)
            self._stand_as_before(line, {"mode": first["mode"]})

    def _stand_as_before(self, line: LinkedDisplay, at: dict[str, Any]) -> None:
        """Go to a mode and put its control back: one that is refused keeps none of the others from being put back."""
        try:
            line.choose(at["mode"])
            if "control" in at:
                line.set(at["mode"], at["control"], at["had"])
        except FenvikError as problem:
            log.warning("display not put back after reading shifts", pass_id=self.plan.pass_.pk, problem=str(problem))


kinds.runners[PassPurpose.SHIFT] = ShiftRunner
