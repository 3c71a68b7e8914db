"""What a procedure is: a generator that yields what it wants done and is sent what came of it.

It touches no device. Whoever runs one decides what a step means: read with a meter, look up what was read before, or ask a person.
"""

from collections.abc import Callable, Generator
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar, cast

import numpy as np

from fenvik.core.errors import FenvikError
from fenvik.core.types import Floats

Fraction = tuple[float, float, float]
T = TypeVar("T")


class BudgetError(FenvikError):
    """All the readings that were allowed have been taken."""

    code = "budget"


class RestlessError(FenvikError):
    """A display that does not stay as it is set, or a meter that no longer sees it: nothing that is read means anything."""

    code = "restless"


class TooBrightError(RestlessError):
    """What is shown has more light than the meter can read."""

    code = "too_bright"


class OtherLightError(RestlessError):
    """The light of the display, of the room, or what the meter sees of it has become another by itself.

    ``since``: so many of the readings that are kept were taken before it was last seen to be as it should; ``was``: a reading
    that tells how it was. ``is_over``: it is again as it was.
    """

    code = "other_light"

    def __init__(self, words: str, since: int, was: Any, *, is_over: bool = False) -> None:
        super().__init__(words)
        self.since, self.was, self.is_over = since, was, is_over


class FoundElsewhereError(RestlessError):
    """What was found was read in another light than there is now: nothing can be held against it."""

    code = "found_elsewhere"


class RefusedError(FenvikError):
    """A display does not let a control be set, or does not take what it is to be given.

    ``room``: the lowest and the highest value that it says it takes. ``what``: what was to be installed.
    """

    code = "refused"

    def __init__(self, words: str, *, room: tuple[float, float] | None = None, what: str = "") -> None:
        super().__init__(words)
        self.room, self.what = room, what


class AwayError(FenvikError):
    """The reference does not answer any more: what does not need it may go on without."""

    code = "away"


class LeftOutError(AwayError):
    """A person has said to go on without the reference: nobody is called for it any more."""

    code = "left_out"


class StoppedError(Exception):
    """A person has asked to stop: what is half done is brought to rest first."""


# What ends a step for good. Anything else may go on later from where it was cut off, so there nothing is turned.
ENDS = (BudgetError, StoppedError, KeyboardInterrupt)


@dataclass(frozen=True)
class Read:
    """Read a patch of percentages of signal. Sent back: what was sent, as fractions (3,), and XYZ (3,) in cd/m².

    ``by``: "" for the light as it is seen, through the correction that is in force; "meter" or "reference" for what that meter
    itself says.
    """

    percent: Fraction
    by: str = ""


@dataclass(frozen=True)
class Set:
    """Set a control. Sent back: what it now is."""

    control: str
    value: Any


@dataclass(frozen=True)
class Install:
    """Install something in the display's mode, as the device link says it. Nothing is sent back."""

    what: str
    data: dict[str, Any]


@dataclass(frozen=True)
class Uninstall:
    """Take away what is installed. Nothing is sent back."""

    what: str


@dataclass(frozen=True)
class Look:
    """Ask the display how it stands. Sent back: a ``Standing``, or None from a rig that cannot be asked."""


@dataclass(frozen=True)
class Standing:
    """The value of every control by its id as the display tells it.

    ``left_mode``: it was in another mode than its own, and was put back. ``sent_again``: it showed another signal, and the right
    one was sent anew. ``clash``: what it still shows otherwise than is wanted, its signal or its input, in a sentence.
    """

    values: dict[str, Any]
    left_mode: bool = False
    sent_again: bool = False
    clash: str = ""


@dataclass(frozen=True)
class Correct:
    """Look at what the meter reads through a matrix (3, 3) from now on. Nothing is sent back.

    ``made``: what the matrix was made of, for whoever keeps it.
    """

    matrix: Floats
    made: Any = field(default=None, compare=False)


@dataclass(frozen=True)
class Ask:
    """Say what only a person can set right, and wait until they have.

    Sent back: whether anybody did; None where nobody is there.
    """

    words: str


@dataclass(frozen=True)
class Wait:
    """Let so many seconds pass: what is in the way may go by itself. Nothing is sent back."""

    seconds: float


@dataclass(frozen=True)
class Clock:
    """Tell when the reading before was begun. Sent back: seconds, from any beginning."""


@dataclass(frozen=True)
class Keep:
    """Keep what has come out so far, for whoever looks at it before the end. Nothing is sent back."""

    what: Any


@dataclass(frozen=True)
class Say:
    """Tell whoever watches what is done now. Nothing is sent back."""

    words: str


Step = Read | Set | Install | Uninstall | Look | Correct | Ask | Wait | Clock | Keep | Say
Procedure = Generator[Step, Any, T]


def words_of(step: Read | Set | Look | Install | Uninstall | Correct | Ask) -> str:
    """Return what a step is to do."""
    if isinstance(step, Look):
        return "ask how the display stands"
    if isinstance(step, Correct):
        return "correct the meter"
    if isinstance(step, Ask):
        return "call somebody"
    if isinstance(step, Read):
        return f"read {' '.join(f'{v:g}' for v in step.percent)} %{f' with the {step.by}' if step.by else ''}"
    if isinstance(step, Install):
        return f"install the {step.what}"
    if isinstance(step, Uninstall):
        return f"take the {step.what} away"
    return f"set {step.control}"


class Rig(Protocol):
    """A display, a meter and a source. ``controls`` are those of the mode, as the device link describes them, ``value`` kept up."""

    controls: list[dict[str, Any]]

    def read(self, percent: Fraction) -> tuple[Floats, Floats]:
        """Return what percentages of signal were sent as, as fractions (3,), and XYZ (3,) in cd/m² as it is seen."""
        ...

    def set(self, control: str, value: Any) -> Any:
        """Set a control and return what it now is."""
        ...


class ComparingRig(Rig, Protocol):
    """A rig that has a reference meter beside its own."""

    def read_by(self, meter: str, percent: Fraction) -> tuple[Floats, Floats]:
        """Return fractions (3,) and XYZ (3,) as one of the two meters reads it, uncorrected."""
        ...

    def correct(self, matrix: Floats, made: Any) -> None:
        """Look at what the meter reads through a matrix (3, 3) from now on; ``made`` is what came of the comparison."""
        ...


class InstallingRig(Rig, Protocol):
    """A rig whose display takes what is installed."""

    def install(self, what: str, data: dict[str, Any]) -> None:
        """Install something in the mode."""
        ...

    def uninstall(self, what: str) -> None:
        """Take it away."""
        ...


class AskedRig(Rig, Protocol):
    """A rig whose display says how it stands."""

    def look(self) -> Standing:
        """Return how the display stands, in its own mode again where it had left that."""
        ...


class AttendedRig(Rig, Protocol):
    """A rig with somebody who can be called."""

    def ask(self, words: str) -> bool | None:
        """Say what is wrong and wait; return whether it was set right, None where nobody is there."""
        ...


class WaitingRig(Rig, Protocol):
    """A rig for which time passes."""

    def wait(self, seconds: float) -> None:
        """Do nothing for so long."""
        ...


class TimedRig(Rig, Protocol):
    """A rig that knows when it has read."""

    def clock(self) -> float:
        """Return when the reading before was begun, in seconds."""
        ...


def perform(
    procedure: Procedure[T], rig: Rig, heard: Callable[[str], None] = lambda words: None,
    kept: Callable[[Any], None] = lambda what: None,
) -> T:  # fmt: skip
    """Run a procedure on a rig; return what it returns. ``heard`` is told what is done, ``kept`` what has come out so far.

    What goes wrong while a step is done, a person's stop included, is raised within the procedure at that step: it may bring what
    is half done to rest, and raises it on.
    """
    try:
        step = next(procedure)
        while True:
            try:
                came: Any = None
                match step:
                    case Read(percent, ""):
                        came = rig.read(percent)
                    case Read(percent, by):
                        came = cast(ComparingRig, rig).read_by(by, percent)
                    case Set(control, value):
                        came = rig.set(control, value)
                    case Install(what, data):
                        cast(InstallingRig, rig).install(what, data)
                    case Uninstall(what):
                        cast(InstallingRig, rig).uninstall(what)
                    case Look():
                        came = cast(AskedRig, rig).look() if hasattr(rig, "look") else None
                    case Correct(matrix, made_of):
                        cast(ComparingRig, rig).correct(matrix, made_of)
                    case Ask(words):
                        came = cast(AttendedRig, rig).ask(words) if hasattr(rig, "ask") else None
                    case Wait(seconds):
                        if hasattr(rig, "wait"):
                            cast(WaitingRig, rig).wait(seconds)
                    case Clock():
                        came = cast(TimedRig, rig).clock()
                    case Keep(what):
                        kept(what)
                    case Say(words):
                        heard(words)
            except BaseException as problem:
                step = procedure.throw(problem)
            else:
                step = procedure.send(came)
    except StopIteration as done:
        made: T = done.value
        return made


def readings_of(procedure: Procedure[Any]) -> list[tuple[Read, str]]:
    """Return what a procedure reads, each with what a person is asked before it, where every reading comes dark.

    For those that read the same whatever comes: their readings are listed before the first is taken.
    """
    listed: list[tuple[Read, str]] = []
    asked = ""
    came: Any = None
    try:
        while True:
            step, came = procedure.send(came), None
            match step:
                case Read():
                    listed.append((step, asked))
                    asked, came = "", (np.zeros(3), np.zeros(3))
                case Ask(words):
                    asked, came = words, True
                case Clock():
                    came = 0.0
    except StopIteration:
        return listed
