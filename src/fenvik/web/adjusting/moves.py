"""One control to turn, as a screen shows it."""

from typing import Any


def move_of(name: str, label: str, now: float, steps: float, step: float, channel: int | None = None) -> dict[str, Any]:
    """Return a move of some steps; ``channel`` 0 to 2 where it is a control of one light."""
    value = round(now + steps * step, 9)
    return {"id": name, "label": label, "now": now, "value": value, "steps": steps, "channel": channel}
