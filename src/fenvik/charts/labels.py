"""Where labels may stand so that none lies on another or on a mark."""

from collections.abc import Sequence
from dataclasses import dataclass

CHARACTER = 6.9  # width of a character at the chart's text size
LINE = 15.0
PLACES = (
    (1, 0.0), (-1, 0.0), (1, -0.8), (-1, -0.8), (1, 0.8), (-1, 0.8), (0, -1.1), (0, 1.1),
    (1, -1.6), (-1, -1.6), (1, 1.6), (-1, 1.6), (0, -2.1), (0, 2.1),
)  # fmt: skip


@dataclass(frozen=True)
class Box:
    """A rectangle."""

    x: float
    y: float
    width: float
    height: float

    def over(self, other: "Box") -> float:
        """Return the area that two boxes share."""
        wide = min(self.x + self.width, other.x + other.width) - max(self.x, other.x)
        high = min(self.y + self.height, other.y + other.height) - max(self.y, other.y)
        return max(wide, 0.0) * max(high, 0.0)


@dataclass(frozen=True)
class Placed:
    """A label with its place; ``anchor`` is start, middle or end."""

    x: float
    y: float
    anchor: str
    box: Box


def place(
    anchors: Sequence[tuple[float, float, str]], marks: Sequence[Box], field: Box, gap: float = 13.0
) -> list[Placed]:
    """Return a place for each (x, y, words): the first that is free, or the one that covers least."""
    taken = list(marks)
    placed = []
    for x, y, words in anchors:
        width = CHARACTER * len(words)
        best, best_cost = None, float("inf")
        for order, (side, down) in enumerate(PLACES):
            left = x + gap if side > 0 else x - gap - width if side < 0 else x - width / 2
            base = y + 4.5 + down * LINE
            box = Box(left, base - LINE + 3, width, LINE)
            inside = box.x >= field.x and box.x + width <= field.x + field.width
            inside = inside and box.y >= field.y and box.y + LINE <= field.y + field.height
            cost = sum(box.over(other) for other in taken) + (0 if inside else 1e6) + 0.1 * order
            if cost < best_cost:
                anchor = "start" if side > 0 else "end" if side < 0 else "middle"
                at = x + gap if side > 0 else x - gap if side < 0 else x
                best, best_cost = Placed(at, base, anchor, box), cost
        assert best is not None
        taken.append(best.box)
        placed.append(best)
    return placed
