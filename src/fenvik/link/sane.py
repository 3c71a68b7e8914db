"""What an answer may contain, whatever its shape: texts that can be shown and stored, numbers that can be computed with.

The link allows lines of 8 MiB, which only what is sent to a display needs. Answers are bounded by what they are for: a program on a
firm's network may be broken or hostile, and what it says is stored and shown to people.
"""

import math
import re
import unicodedata
from typing import Any

MOST_BYTES = {"controls": 2 * 1024 * 1024, "list": 256 * 1024, "describe": 512 * 1024}  # of an answer, by method
OTHER_BYTES = 64 * 1024
MOST_CONTROLS, MOST_ENTRIES, MOST_MODES, MOST_OPTIONS = 2000, 200, 200, 500
LONGEST_TEXT, LONGEST_SENTENCE = 500, 300  # characters, of a text in an answer and of a refusal's own sentence
LARGEST_NUMBER = 1e12
DEEPEST = 12
# Every member that the link gives a meaning to.
MEMBERS = frozenset({
    "link", "role", "maker", "model", "serial", "firmware", "features", "kind", "floor", "ceiling", "efforts", "typical",
    "repeatability", "formats", "bits", "frame_rates", "charts", "technology", "installs", "curves", "size", "matrix", "cube",
    "sizes", "tone", "panel", "slots", "interpolation", "xyz", "seconds", "clock", "spectrum", "start_nm", "step_nm", "values",
    "hz", "shown", "token", "state", "mode", "signal", "input", "on_minutes", "notices", "id", "label", "signals", "group",
    "value", "default", "min", "max", "step", "options", "off", "name", "host", "port", "slot", "chosen_by", "control", "left",
    "retry_s",
})  # fmt: skip
ONLY_SHOWN = frozenset({"notices", "label", "group"})  # to a person, and told by nothing else
NO_TEXT = re.compile("[\x00-\x1f\x7f-\x9f\ud800-\udfff]")  # controls, and halves of pairs


def most_bytes(method: str) -> int:
    """Return how long an answer may be."""
    return MOST_BYTES.get(method, OTHER_BYTES)


def plain(text: str) -> bool:
    """Whether a text has no characters that cannot be stored or shown: controls, NUL among them, and halves of pairs."""
    return NO_TEXT.search(text) is None


def sentence(text: str) -> str:
    """Return a device's own sentence as it can be shown: cut, and without what cannot be."""
    kept = "".join(c if unicodedata.category(c) not in ("Cc", "Cs", "Cf") else " " for c in text[: 4 * LONGEST_SENTENCE])
    kept = " ".join(kept.split())
    return kept if len(kept) <= LONGEST_SENTENCE else kept[: LONGEST_SENTENCE - 1] + "…"


def named(row: Any, members: tuple[str, ...], longest: int) -> bool:
    """Whether a row of an answer is an object with these texts, none longer than so many characters."""
    return isinstance(row, dict) and all(isinstance(row.get(m), str) and len(row[m]) <= longest for m in members)


def flaw(value: Any, depth: int = 0) -> str:
    """Return in words what is wrong with a value of an answer, whatever it stands for; empty where nothing is."""
    if depth > DEEPEST:
        return "it is nested too deeply"
    if isinstance(value, str):
        if len(value) > LONGEST_TEXT:
            return f"a text of {len(value)} characters"
        return "" if plain(value) else "a text with characters that are none"
    if isinstance(value, bool) or value is None:
        return ""
    if isinstance(value, int | float):
        # An integer may have hundreds of digits, which no float has.
        sound = abs(value) <= LARGEST_NUMBER if isinstance(value, int) else math.isfinite(value) and abs(value) <= LARGEST_NUMBER
        return "" if sound else "a number beyond every measure"
    if isinstance(value, list):
        return next((words for item in value if (words := flaw(item, depth + 1))), "")
    return next((words for pair in value.items() for item in pair if (words := flaw(item, depth + 1))), "")


def known(value: Any, depth: int = 0) -> Any:
    """Return a value of an answer as far as it can be stored and shown.

    A device may tell more than the link asks for, a whole certificate or lines of text: what the link knows nothing of is left out,
    for that is no fault of what it was asked. A notice or a label of two lines is told as a sentence.
    """
    if depth > DEEPEST:
        return value
    if isinstance(value, list):
        return [known(item, depth + 1) for item in value]
    if not isinstance(value, dict):
        return value
    kept = {name: item for name, item in value.items() if name in MEMBERS or not (flaw(name) or flaw(item, depth + 1))}
    return {name: _shown(item) if name in ONLY_SHOWN else known(item, depth + 1) for name, item in kept.items()}


def _shown(told: Any) -> Any:
    if isinstance(told, list):
        return [sentence(item) if isinstance(item, str) else item for item in told]
    return sentence(told) if isinstance(told, str) else told
