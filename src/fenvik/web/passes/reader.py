"""One reading of a pass: show, settle, read; and whether the picture that was read still follows the source."""

import time
from datetime import UTC, datetime

import numpy as np
from django.conf import settings

from fenvik.core.errors import FenvikError
from fenvik.core.measure.alive import Shown, far_from, is_suspicious, should_be_read
from fenvik.core.measure.averaging import LowLight
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.signal.decoding import encode
from fenvik.core.signal.patches import Patch, grey
from fenvik.session.reading import read_once, until_two_agree
from fenvik.web.passes.devices import Devices
from fenvik.web.passes.models import PassPurpose
from fenvik.web.passes.store import Store, Taken
from fenvik.web.passes.turns import Turn

DIM_WHITE = 30.0  # cd/m²: what a white is taken to have before any has been read


class StuckError(FenvikError):
    """The picture on the screen no longer follows the source."""

    code = "stuck"

    def __init__(self, source: str, reference: str = "") -> None:
        super().__init__(
            f"{reference} reads the same of two patches that differ, and the meter beside it did not. See that it is aimed at the "
            "screen and has no cap on; nothing of it was stored."
            if reference
            else "The picture does not change any more: two patches that differ read the same. Look at the screen, at the input "
            f"and at {source}; nothing of it was stored."
        )


class BlindError(FenvikError):
    """A meter that calls a bright patch too dark to read."""

    code = "blind"

    def __init__(self, meter: str, label: str) -> None:
        super().__init__(
            f"{meter} says that {label} is too dark to read, and it should not be. Take its cap off, aim it, see that the display "
            "is on; nothing of it was stored."
        )


class Reader:
    """Reads the patches of one pass by its devices."""

    def __init__(self, devices: Devices, store: Store) -> None:
        self.devices, self._store, self._pass = devices, store, devices.pass_
        # To the nearest code: the foot of limited range is black.
        self._range = "full" if self._pass.range == "full" else "limited"
        self._surround = [int(code) for code in encode([self._pass.surround] * 3, self._pass.bits, self._range)]  # type: ignore[arg-type]
        self._low_light = LowLight(**self._pass.low_light) if self._pass.low_light else None
        self.repeatability = Repeatability.of(self._pass.meter_facts["repeatability"])
        self.brightest = 0.0  # cd/m² that was read at most
        self.last_shown: dict[str, Shown] = {}  # by meter: what it read last, to see whether the picture still follows

    def read(self, turn: Turn, average: int, *, show: bool) -> Taken:
        """Show a patch where it is not there yet, let it settle, and read it; in the dark longer, where that is wanted."""
        pass_, devices = self._pass, self.devices
        if show and not self.was_typed(turn):
            chart = turn.row.get("chart")
            if chart is not None and not devices.is_shown_by_hand:
                devices.source.chart(chart["name"], chart.get("options"))
            else:
                self._show(turn.patch, float(turn.row.get("window") or pass_.window))
            if pass_.settle_s and not devices.is_shown_by_hand:
                time.sleep(pass_.settle_s)
        effort = pass_.reference_effort if turn.by == "reference" else pass_.effort
        settling = show and pass_.settling
        taken = self._settled(turn, effort) if settling else self._once(turn, turn.patch, average, effort)
        rule = self._low_light
        dark = None if taken.too_dark else taken.xyz[1]
        if rule is None or devices.is_typed(turn) or not rule.wants(dark, pass_.average, effort):
            return taken
        return self._once(turn, turn.patch, max(rule.average, pass_.average), rule.effort or effort)

    def see_that_it_lives(self, turn: Turn, taken: Taken) -> None:
        """Refuse a reading that is that of the patch before, where another picture changes nothing either.

        Raises StuckError, or BlindError of a meter that does not see a bright patch.
        """
        pass_, before = self._pass, self.last_shown.get(turn.by)
        now = Shown(turn.patch.fraction(pass_.bits, self._range), np.array(taken.xyz))  # type: ignore[arg-type]
        by_person = self.devices.is_shown_by_hand or self.devices.is_typed(turn)
        # Trying out is about this very question, and answers it in its own words.
        asked = not pass_.repeat and pass_.purpose != PassPurpose.TRY and turn.row.get("chart") is None
        if taken.too_dark and asked and not by_person:
            device = self.devices.device_of(turn)
            is_pq, floor = pass_.signal_format in ("hdr10", "dynamic"), float(device.facts["floor"])
            if should_be_read(now.fraction, self.brightest or DIM_WHITE, floor, is_pq=is_pq):
                raise BlindError(device.name, turn.patch.label)
        self.brightest = max(self.brightest, taken.xyz[1])
        plain = asked and not taken.too_dark
        if before is not None and plain and not by_person and is_suspicious(before, now, self.repeatability):
            proof = grey(far_from(now.fraction), pass_.bits, self._range)  # type: ignore[arg-type]
            self._show(proof, pass_.window)
            time.sleep(pass_.settle_s)
            other = self._once(turn, proof, 1, taken.effort)
            seen = Shown(proof.fraction(pass_.bits, self._range), np.array(other.xyz))  # type: ignore[arg-type]
            if not other.too_dark and is_suspicious(now, seen, self.repeatability):
                # Where the field meter has seen the picture follow, it is the reference that does not look at it.
                astray = turn.by == "reference" and "meter" in self.last_shown
                raise StuckError(pass_.source.name, str(pass_.reference) if astray else "")
            # It lives, and clips or crushes: the reading stands, and the next patch is shown anew.
        if plain:
            self.last_shown[turn.by] = now

    def _show(self, patch: Patch, window: float) -> None:
        self.devices.source.patch(patch.rgb, window=window, surround=self._surround)

    def was_typed(self, turn: Turn) -> bool:
        """Whether the value that is wanted was typed while nobody held the pass: its patch was shown before it was asked."""
        told = (self._pass.answer or {}).get("n")
        return self.devices.is_typed(turn) and told == f"value-{turn.index}-{turn.taken}"

    def _settled(self, turn: Turn, effort: str) -> Taken:
        """Read until two readings in a row agree within the meter's noise, as a display needs that settles at its own pace."""
        average = self._pass.average

        def light(taken: Taken) -> float | None:
            return None if taken.too_dark or self.devices.is_typed(turn) else taken.xyz[1]

        return until_two_agree(lambda: self._once(turn, turn.patch, average, effort), light, self.repeatability, average)

    def _once(self, turn: Turn, patch: Patch, average: int, effort: str) -> Taken:
        pass_, knew, started = self._pass, self._store.knows(), datetime.now(UTC)
        facts = self.devices.device_of(turn).facts if turn.by == "reference" else pass_.meter_facts
        began = time.monotonic()
        # A black below the floor is a result: the contrast becomes a lower bound.
        seen = read_once(
            self.devices.meters[turn.by], typical=facts["typical"], average=average, effort=effort, slack_s=settings.LINK_SLACK_S
        )
        self.devices.longest_s = max(self.devices.longest_s or 0.0, time.monotonic() - began)
        return Taken(
            turn.index, patch, seen.xyz, seen.too_dark, seen.seconds, seen.clock, started, average, effort, turn.part, knew
        )
