"""A visit in words: a line a display, and below it a line a tuning."""

import re
from dataclasses import dataclass, field

from fenvik.core.errors import FenvikError
from fenvik.web.clients.models import Technology
from fenvik.web.visits.aimed import SIGNALS
from fenvik.web.visits.models import Purpose

MOST_LINES, MOST_TEXT = 120, 8000
WORDS = {
    "lcd": "lcd", "led": "lcd", "oled": "oled", "wrgb oled": "wrgb-oled", "wrgb-oled": "wrgb-oled", "wrgb": "wrgb-oled",
    "projector": "projector", "laser projector": "projector", "lamp projector": "projector", "other": "other",
}  # fmt: skip
CARRIES = {"sdr": "sdr", "hdr": "hdr10", "hdr10": "hdr10", "hlg": "hlg", "dynamic": "dynamic", "dynamic metadata": "dynamic"}
TOLD = {"game": {"game", "gaming", "games"}, "day": {"day", "bright", "daylight"}, "night": {"night", "dark"}}
_LIGHT = re.compile(r"(\d+(?:[.,]\d+)?)\s*(?:cd(?:/m(?:²|2))?|nits?)?")


class WordsError(FenvikError):
    """A line that cannot be understood; its message names the line."""

    code = "plan_words"


@dataclass(frozen=True)
class ToldTuning:
    """A picture mode of the display above it, its purpose, its signal, and its white in cd/m² where that was typed."""

    number: int
    mode: str
    purpose: str
    signal: str
    luminance: float | None = None


@dataclass(frozen=True)
class ToldDisplay:
    """A display by the room it stands in; the rest is empty where only the room was typed."""

    number: int
    room: str
    maker: str = ""
    model: str = ""
    serial: str = ""
    technology: str = ""
    tunings: list[ToldTuning] = field(default_factory=list)


def read(text: str) -> list[ToldDisplay]:
    """Return the displays that a text tells, each with its tunings. Raises WordsError with the line's number and words."""
    lines = [(i, " ".join(raw.split())) for i, raw in enumerate(text.splitlines(), 1) if raw.strip()]
    if len(text) > MOST_TEXT or len(lines) > MOST_LINES:
        raise WordsError(f"A visit in words has at most {MOST_LINES} lines.")
    made: list[ToldDisplay] = []
    for number, line in lines:
        try:
            if ":" in line:
                made.append(_display(number, line))
            elif not made:
                raise WordsError("a tuning needs its display above it, such as “Lounge: Skerry W65, OLED”.")
            else:
                made[-1].tunings.append(_tuning(number, line))
        except WordsError as problem:
            raise WordsError(f"Line {number}, “{line[:40]}”: {problem}") from None
    return made


def _display(number: int, line: str) -> ToldDisplay:
    room, _, rest = line.partition(":")
    parts = [part.strip() for part in rest.split(",") if part.strip()]
    technology = [part for part in parts if part.lower() in WORDS]
    named = [part for part in parts if part not in technology]
    if not room.strip():
        raise WordsError("before the colon stands the room.")
    if len(technology) > 1:
        raise WordsError(f"{technology[0]} and {technology[1]}: which of the two is it?")
    if len(named) > 2:
        raise WordsError(f"a display is maker and model, technology, serial; what is “{named[2]}”?")
    if technology and not named:
        raise WordsError("which maker and model is it?")
    maker, _, model = named[0].partition(" ") if named else ("", "", "")
    if named and not model:
        maker, model = "", maker
    told = ToldDisplay(
        number, room.strip(), maker, model, named[1] if len(named) > 1 else "", WORDS[technology[0].lower()] if technology else ""
    )
    for what, most in (("room", 80), ("maker", 60), ("model", 60), ("serial", 60)):
        if len(getattr(told, what)) > most:
            raise WordsError(f"a {what} has at most {most} characters.")
    return told


def _tuning(number: int, line: str) -> ToldTuning:
    mode, *rest = [part.strip() for part in line.split(",")]
    if not mode or len(mode) > 60:
        raise WordsError("first comes the picture mode as the display calls it, of at most 60 characters.")
    purpose, signal, light = "", "", None
    for word in filter(None, rest):
        low = word.lower()
        if low in Purpose.values and not purpose:
            purpose = low
        elif low in CARRIES and not signal:
            signal = CARRIES[low]
        elif (found := _LIGHT.fullmatch(low)) and light is None:
            light = float(found[1].replace(",", "."))
            if not 5 <= light <= 5000:
                raise WordsError(f"white of {found[1]} cd/m² is none: 5 to 5000.")
        else:
            known = ", ".join([*Purpose.values, *(name.lower() for name in SIGNALS.values())])
            raise WordsError(f"what is “{word}”? After the mode come any of {known}, and white in cd/m².")
    signal = signal or _signal_of(mode)
    if light is not None and signal != "sdr":
        raise WordsError(f"{SIGNALS[signal]} says itself how bright; white in cd/m² goes with SDR.")
    return ToldTuning(number, mode, purpose or _purpose_of(mode, signal), signal, light)


def _signal_of(mode: str) -> str:
    """Return the signal that a mode's own name tells."""
    words = re.split(r"[^a-z0-9]+", mode.lower())
    return next((CARRIES[word] for word in words if word in CARRIES), "sdr")


def _purpose_of(mode: str, signal: str) -> str:
    words = re.split(r"[^a-z]+", mode.lower())
    for purpose, said in TOLD.items():
        if said & set(words):
            return purpose
    return Purpose.FILM if signal != "sdr" else Purpose.NIGHT


def technology_of(told: ToldDisplay) -> str:
    """Return what kind of display it is: as typed, else by a word of its name, else an LCD."""
    named = f"{told.maker} {told.model}".lower()
    return told.technology or next((WORDS[w] for w in ("oled", "projector") if w in named), Technology.LCD)
