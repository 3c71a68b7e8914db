"""What the address of a stop asks for beside the stop itself."""

from dataclasses import dataclass
from urllib.parse import urlencode

from django.http import QueryDict

PARTS = {
    "arrival": {
        "settings": "settings",
        "sheets": "sheets",
        "display": "display",
        "menu": "menu map",
        "target": "target",
    },
    "instruments": {"devices": "instruments", "aim": "aim", "correction": "correction", "spectra": "spectra"},
    "groundwork": {
        "checks": "checks", "levels": "levels", "patterns": "patterns", "warm-up": "warm-up", "modes": "modes",
        "whites": "whites",
    },
}
# What is worked on at Adjust: its key and its name.
WORKS = {
    "light": ("l", "light"),
    "two": ("w", "two-point"),
    "points": ("m", "points"),
    "colours": ("c", "colours"),
    "hands-free": ("h", "hands-free"),
}
# Each names one thing that the page shows, or that its form begins with.
NAMES = ("sheet", "other", "check", "pattern", "step", "method", "work", "hue", "one", "began", "about", "content")
LONGEST = 60


@dataclass(frozen=True)
class Options:
    """``view`` is a picture of a chart's stop or a part of Arrival and Groundwork; ``more`` pairs of a name and what it names."""

    view: str = "balance"
    table: bool = False
    ask: str = ""  # "undo": the hand asks to turn something back
    more: tuple[tuple[str, str], ...] = ()

    def get(self, name: str) -> str:
        """Return what a name stands for; empty where the address does not say."""
        return dict(self.more).get(name, "")

    @property
    def work(self) -> str:
        """What is worked on at Adjust: two-point unless another work is asked for."""
        return self.get("work") if self.get("work") in WORKS else "two"

    def number(self, name: str) -> int | None:
        """Return the number that a name stands for."""
        text = self.get(name)
        return int(text) if text.isdigit() and len(text) < 18 else None

    def part(self, stop: str) -> str:
        """Return the part of a stop that is shown: the first unless another one is asked for."""
        parts = PARTS[stop]
        return self.view if self.view in parts else next(iter(parts))

    @property
    def query(self) -> str:
        """The same as the end of an address."""
        parts = [("view", self.view)] if self.view != "balance" else []
        parts += [("table", "1")] if self.table else []
        parts += self.more
        return f"?{urlencode(parts)}" if parts else ""

    def live_query(self, seen: str) -> str:
        """Return the end of the address of the live view, which shows what this page shows, as it was at the moment ``seen``."""
        parts = urlencode({name: told for name, told in (("ask", self.ask), ("seen", seen)) if told})
        return f"{self.query}{'&' if self.query else '?'}{parts}" if parts else self.query


def options_of(asked: QueryDict) -> Options:
    """Return the options of an address; what it does not know is left out."""
    more = tuple((name, str(asked[name])[:LONGEST]) for name in NAMES if asked.get(name))
    return Options(asked.get("view", "balance")[:20], asked.get("table") == "1", asked.get("ask", "")[:20], more)
