"""Ready-made menu maps, for a display whose menu is typed in rather than read."""

from dataclasses import dataclass
from typing import Any

LIGHTS = ("red", "green", "blue")


@dataclass(frozen=True)
class Shape:
    """A menu that many models have, with the names that most of them use."""

    id: str
    label: str
    low: int
    high: int
    ends: tuple[str, ...]

    def controls(self) -> list[dict[str, Any]]:
        """Return the controls of a menu map."""
        picture = [
            ("light", "Light", "light", 0, 100),
            ("white-level", "White level", "white-level", 0, 100),
            ("black-level", "Black level", "black-level", 0, 100),
        ]
        made: list[dict[str, Any]] = [
            {
                "id": id_,
                "label": label,
                "group": "Picture",
                "kind": "range",
                "role": role,
                "min": low,
                "max": high,
                "step": 1,
            }
            for id_, label, role, low, high in picture
        ]
        made += [
            {
                "id": f"{end}-{light}",
                "label": f"{light.capitalize()} {end}",
                "group": "White balance",
                "kind": "range",
                "role": f"white.{end}.{light}",
                "min": self.low,
                "max": self.high,
                "step": 1,
            }
            for end in self.ends
            for light in LIGHTS
        ]
        made.append(
            {
                "id": "energy",
                "label": "Energy saving",
                "group": "Economy",
                "kind": "choice",
                "role": "process.energy",
                "options": ["Off", "Low", "High"],
                "off": "Off",
            }
        )
        return made


SHAPES = {
    shape.id: shape
    for shape in (
        Shape("two-50", "two-point, −50 to 50", -50, 50, ("gain", "offset")),
        Shape("two-30", "two-point, −30 to 30", -30, 30, ("gain", "offset")),
        Shape("two-10", "two-point, −10 to 10", -10, 10, ("gain", "offset")),
        Shape("two-255", "two-point, 0 to 255", 0, 255, ("gain", "offset")),
        Shape("gains-50", "gains only, −50 to 50", -50, 50, ("gain",)),
    )
}
