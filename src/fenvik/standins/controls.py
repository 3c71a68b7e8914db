"""Controls of many points and of single colours: what each step does to signal and light."""

import re

import numpy as np

from fenvik.core.types import Floats
from fenvik.standins.menu import Item

LIGHTS = ("red", "green", "blue")
COLOURS = ("red", "yellow", "green", "cyan", "blue", "magenta")  # around the circle, a sixth apart
ATTRIBUTES = ("hue", "saturation", "luminance")
POINT = re.compile(r"(white|gamma)\.at\.([0-9.]+)(?:\.(red|green|blue))?$")
OVERLAP = 0.55  # of the distance to the next point: neighbours pull at each other's levels
REACH = 1.25  # sixths of the circle: a colour's control takes a little of its neighbours with it
POINT_STEP = 0.0021
HUE_STEP = np.deg2rad(0.55)
SATURATION_STEP, LUMINANCE_STEP, MIX_STEP = 0.006, 0.005, 0.0035
LUMA = np.array([0.2126, 0.7152, 0.0722])


def point_items(levels: tuple[float, ...], *, luminance: bool, low: int = -50, high: int = 50) -> list[Item]:
    """Return the controls of a balance by level, as a menu lists them: level by level."""
    made = []
    for level in levels:
        name = f"{level:g}".replace(".", "-")
        made += [
            Item(
                f"mp-{name}{light[0]}",
                f"{level:g}% {light.capitalize()}",
                "Fine balance",
                "range",
                f"white.at.{level:g}.{light}",
                low,
                high,
            )
            for light in LIGHTS
        ]
        if luminance:
            made.append(
                Item(f"mp-{name}y", f"{level:g}% Light", "Fine balance", "range", f"gamma.at.{level:g}", low, high)
            )
    return made


def attribute_items() -> list[Item]:
    """Return six colours by hue, saturation and luminance."""
    return [
        Item(
            f"cm-{colour}-{what[0]}",
            f"{colour.capitalize()} {what}",
            "Colours",
            "range",
            f"colour.{colour}.{what}",
            -30,
            30,
        )
        for colour in COLOURS
        for what in ATTRIBUTES
    ]


def mixing_items() -> list[Item]:
    """Return six colours by how much of each light makes them up."""
    return [
        Item(
            f"cx-{colour}-{light[0]}",
            f"{colour.capitalize()}: {light[0].upper()}",
            "Colours",
            "range",
            f"colour.{colour}.mix.{light}",
            -50,
            50,
        )
        for colour in COLOURS
        for light in LIGHTS
    ]


class Points:
    """The points of a display's menu: their levels, and how much one step of each does on this sample."""

    def __init__(self, roles: dict[str, str], draw: np.random.Generator) -> None:
        found = {role: match for role in roles if (match := POINT.match(role))}
        self.levels = np.array(sorted({float(m[2]) / 100.0 for m in found.values()}))
        at = {role: int(np.searchsorted(self.levels, float(match[2]) / 100.0)) for role, match in found.items()}
        # Which of the steps, point by point and light by light, a control of a role turns.
        self.turns = {r: (at[r], slice(None) if m[1] == "gamma" else LIGHTS.index(m[3])) for r, m in found.items()}
        # Steps are not equal, neither from point to point nor from light to light.
        self.step = POINT_STEP * draw.uniform(0.7, 1.3, (max(len(self.levels), 1), 3))

    def moved(self, v: Floats, values: dict[str, float]) -> Floats:
        """Return signal fractions (..., 3) moved by the points; ``values`` by role."""
        if not len(self.levels):
            return v
        turned = {role: value for role, value in values.items() if value}
        if not turned:
            return v
        steps = np.zeros((len(self.levels), 3))
        for role, value in turned.items():
            steps[self.turns[role]] += value
        gaps = np.gradient(self.levels) if len(self.levels) > 1 else np.array([0.5])
        weight = np.exp(-0.5 * ((v[..., None] - self.levels) / (OVERLAP * gaps)) ** 2)  # (..., 3, k)
        return np.asarray(v + np.einsum("...ck,kc->...c", weight, steps * self.step))


def managed(light: Floats, values: dict[str, float], idle: str) -> Floats:
    """Return linear light (..., 3) after colour management; ``values`` by role; ``idle`` is a colour whose controls do nothing."""
    wanted = {role: value for role, value in values.items() if value and not role.startswith(f"colour.{idle}.")}
    if not wanted:
        return light
    top, low = light.max(axis=-1), light.min(axis=-1)
    chroma = np.maximum(top - low, 1e-12)
    red, green, blue = light[..., 0], light[..., 1], light[..., 2]
    angle = np.select(
        [top == red, top == green],
        [((green - blue) / chroma) % 6.0, (blue - red) / chroma + 2.0],
        (red - green) / chroma + 4.0,
    )
    made = light.copy()
    for role, value in wanted.items():
        _, colour, *what = role.split(".")
        away = np.abs((angle - COLOURS.index(colour) + 3.0) % 6.0 - 3.0)
        weight = (np.clip(1.0 - away / REACH, 0.0, 1.0) * chroma / np.maximum(top, 1e-12))[..., None]
        if what[0] == "mix":
            made[..., LIGHTS.index(what[1])] += value * MIX_STEP * weight[..., 0] * top
            continue
        luma = (made @ LUMA)[..., None]
        apart = made - luma
        if what[0] == "hue":
            turned = (np.roll(apart, 1, axis=-1) - np.roll(apart, -1, axis=-1)) / np.sqrt(3)
            turn = value * HUE_STEP * weight
            made = luma + apart * np.cos(turn) + turned * np.sin(turn)
        elif what[0] == "saturation":
            made = luma + apart * (1.0 + value * SATURATION_STEP * weight)
        else:
            made = made * (1.0 + value * LUMINANCE_STEP * weight)
    return made
