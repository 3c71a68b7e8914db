"""What whites add to the running of passes: the reading of shifts goes from mode to mode, with one preset in all of them."""

import time
from typing import Any

import structlog

from fenvik.core.errors import FenvikError
from fenvik.web.devices.displays import paired
from fenvik.web.groundwork.kind import SurveyRunner
from fenvik.web.groundwork.survey import SETTLES_S
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose

log = structlog.get_logger(__name__)


class ShiftRunner(SurveyRunner):
    """Runs a reading of shifts; presets stand as they stood when it ends."""

    def _go(self, at: dict[str, Any]) -> None:
        with paired(self._tuning().display, for_page=False) as line:
            line.choose(at["mode"])
            if "control" in at:
                line.set(at["mode"], at["control"], at["value"])
        self.reader.last_shown.clear()
        time.sleep(SETTLES_S if self.at is None and self.plan.pass_.settle_s else 0.0)

    def _back(self) -> None:
        places = {row["at"]["mode"]: row["at"] for row in self.rows if "mode" in row["at"]}
        if not places:
            return
        tuning = self._tuning()
        try:
            with paired(tuning.display, for_page=False) as line:
                for at in places.values():
                    if "control" in at:
                        line.choose(at["mode"])
                        line.set(at["mode"], at["control"], at["had"])
                line.choose(self.rows[0]["at"]["mode"])
        except FenvikError as problem:
            log.warning("display not put back after reading shifts", pass_id=self.plan.pass_.pk, problem=str(problem))


kinds.runners[PassPurpose.SHIFT] = ShiftRunner
