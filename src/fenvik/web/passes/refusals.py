"""Why a pass cannot be started, read or changed: one sentence each."""

from fenvik.core.errors import FenvikError
from fenvik.web.passes.models import Pass


class NoInstrumentsError(FenvikError):
    """The tuning has no meter or no source yet."""

    code = "no_instruments"

    def __init__(self) -> None:
        super().__init__("Choose a meter and a source under Instruments first; nothing was started.")


class NotMeasurableError(FenvikError):
    """The source cannot show what the tuning wants."""

    code = "not_measurable"


class NothingToReadError(FenvikError):
    """A tuning for which no list is chosen."""

    code = "nothing_to_read"

    def __init__(self, words: str = "No list is chosen, so there is nothing to read. Choose at least one.") -> None:
        super().__init__(words)


class PassOpenError(FenvikError):
    """The tuning, the meter or the source is in use by a pass that has not ended."""

    code = "pass_open"

    def __init__(self, open_pass: Pass | None) -> None:
        what = "Another pass" if open_pass is None else f"A pass of {open_pass.tuning.name}"
        state = "is running" if open_pass is None else f"is {open_pass.get_state_display()}"
        super().__init__(f"{what} {state} with these instruments. Stop it or let it end; no second one was started.")
        self.open_pass = open_pass


class AnsweredError(FenvikError):
    """What was asked has been answered already, or is not asked any more."""

    code = "answered"

    def __init__(self) -> None:
        super().__init__("That was answered already, or is no longer asked: look at which patch is wanted now.")


class PassFinishedError(FenvikError):
    """A pass that has ended cannot be changed any more."""

    code = "pass_finished"

    def __init__(self, pass_id: int) -> None:
        super().__init__("This pass has ended already; its readings are kept.")
        self.pass_id = pass_id


class OtherwiseError(FenvikError):
    """A step that was done before an end is not the one that would be done now."""

    code = "step_differs"

    def __init__(self, number: int, before: str, now: str) -> None:
        super().__init__(
            f"Step {number + 1} of this run was to {before} and would now be to {now}: Fenvik was renewed meanwhile, so it cannot "
            "be led the same way again."
        )
        self.number = number
