"""What a tuning aims at: a named target or a free one, its white, its luminance, how PQ ends."""

from dataclasses import replace
from typing import Any

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models

from fenvik.core.colour.space import BT709, BT2020, D65_XY, P3D65, XY, Primaries
from fenvik.core.colour.target import TARGETS, Target
from fenvik.link.display import SIGNALS as SIGNALS  # noqa: PLC0414 - those who know what is aimed at have them from here
from fenvik.web.kit.models import FirmModel
from fenvik.web.visits.white import WhitePart, aim_of, chain, parts_of

TARGET_LABELS = {
    "bt709-bt1886": "BT.709, BT.1886, D65",
    "bt709-2.2": "BT.709, gamma 2.2, D65",
    "bt709-2.4": "BT.709, gamma 2.4, D65",
    "p3d65-2.6": "P3-D65, gamma 2.6",
    "bt2020-pq": "BT.2020, PQ, D65",
    "p3d65-pq": "P3-D65 in BT.2020, PQ",
    "bt2020-hlg": "BT.2020, HLG, D65",
    "free": "free target",
}
PRIMARIES = {"bt709": ("BT.709", BT709), "p3d65": ("P3-D65", P3D65), "bt2020": ("BT.2020", BT2020)}
FREE_CURVES = {"bt1886": "BT.1886", "power": "gamma", "srgb": "sRGB", "pq": "PQ", "hlg": "HLG"}
CARRIED = {"hdr10": "pq", "dynamic": "pq", "hlg": "hlg"}  # the curve that a signal is made with

ROLL_OFFS = {"clip": "clipped at its peak", "bt2390": "rolled off by BT.2390", "points": "by points of my own"}
ROLLED_BY = {
    "light": "each light by itself", "greatest": "all three, by the greatest of them", "luminance": "all three, by their luminance",
}  # fmt: skip
ENDS = ("roll_off", "rolled_by", "mastered", "mastered_least", "max_cll", "diffuse", "knees")
LEAST_MASTERED = 0.005  # cd/m², of the mastering display, unless it is said


def free_target(facts: dict[str, Any]) -> Target:
    """Return the target that a person put together: primaries (a name or six numbers), white x y, curve, gamma."""
    chosen = facts["primaries"]
    if isinstance(chosen, str):
        primaries = PRIMARIES[chosen][1]
    else:
        red, green, blue = ((float(x), float(y)) for x, y in chosen)
        primaries = Primaries(red, green, blue)
    x, y = facts.get("white") or D65_XY
    return Target("free", primaries, (float(x), float(y)), facts["curve"], float(facts.get("gamma") or 2.4))


def clash(signal: str, target_name: str, free: dict[str, Any] | None = None) -> str:
    """Return in a sentence why a target cannot be held against a signal; empty where it can."""
    curve = str(free["curve"]) if target_name == "free" and free else TARGETS[target_name].curve
    carried = CARRIED.get(signal)
    if carried is None and curve in ("pq", "hlg"):
        return f"{FREE_CURVES[curve]} is the curve of an HDR signal; this tuning is for SDR."
    if carried is not None and curve != carried:
        return f"{SIGNALS[signal]} is made with {FREE_CURVES[carried]}: choose a target with that curve."
    return ""


def free_label(facts: dict[str, Any]) -> str:
    """Return a free target in words."""
    chosen = facts["primaries"]
    space = PRIMARIES[chosen][0] if isinstance(chosen, str) else "own primaries"
    curve = FREE_CURVES[facts["curve"]] + (f" {float(facts['gamma']):g}" if facts["curve"] == "power" else "")
    x, y = facts.get("white") or D65_XY
    return f"{space}, {curve}, {'D65' if (x, y) == D65_XY else f'white {x:.4f} {y:.4f}'}"


def ending(target: Target, facts: dict[str, Any]) -> Target:
    """Return a PQ target with the end that a tuning or a form of it has; ``facts`` has what ENDS names."""
    most = min(facts["mastered"], facts["max_cll"] or facts["mastered"])
    return replace(
        target, rolls_off=facts["roll_off"] == "bt2390", rolled_by=facts["rolled_by"],
        mastered=(most, min(facts["mastered_least"], 0.1 * most)),
        knees=tuple((float(x), float(y)) for x, y in facts["knees"]) if facts["roll_off"] == "points" else (),
        diffuse=facts["diffuse"],
    )  # fmt: skip


class Aim(FirmModel):
    """What a tuning aims at, and the target that this makes."""

    firm_path = "tuning__visit__firm_id"
    aim_key = models.BigAutoField(primary_key=True, db_column="id")
    target_name = models.CharField(max_length=24, choices=list(TARGET_LABELS.items()), default="bt709-bt1886")
    free = models.JSONField(null=True, blank=True)  # of a free target: primaries, white, curve, gamma
    tolerance = models.FloatField(default=1.0, validators=[MinValueValidator(0.1), MaxValueValidator(10.0)])
    luminance = models.FloatField(null=True, blank=True, validators=[MinValueValidator(5.0), MaxValueValidator(5000.0)])
    roll_off = models.CharField(max_length=8, choices=list(ROLL_OFFS.items()), default="clip")
    mastered = models.FloatField(default=1000.0, validators=[MinValueValidator(100.0), MaxValueValidator(10_000.0)])
    mastered_least = models.FloatField(
        default=LEAST_MASTERED, validators=[MinValueValidator(0.0), MaxValueValidator(1.0)]
    )
    rolled_by = models.CharField(max_length=10, choices=list(ROLLED_BY.items()), default="light")
    # The most light in the film itself, where it is known: less than the mastering display could show.
    max_cll = models.FloatField(null=True, blank=True, validators=[MinValueValidator(50.0), MaxValueValidator(10_000.0)])
    # What the film's reference white of 203 cd/m² becomes on a dim display; none for as the film says.
    diffuse = models.FloatField(null=True, blank=True, validators=[MinValueValidator(5.0), MaxValueValidator(500.0)])
    knees = models.JSONField(default=list)  # PQ signal in and out, one to three points, where it is rolled off by these
    white_parts = models.JSONField(default=list)  # what is added to the target's white or taken out: see white.py

    class Meta:
        constraints = [
            models.CheckConstraint(condition=models.Q(tolerance__gt=0), name="tolerance_above_zero"),
            models.CheckConstraint(
                condition=~models.Q(target_name="free") | models.Q(free__isnull=False), name="free_target_has_its_facts"
            ),
        ]

    @property
    def target(self) -> Target:
        """The core's target, with this tuning's tolerance."""
        chosen = free_target(self.free) if self.target_name == "free" and self.free else TARGETS[self.target_name]
        ended = chosen if chosen.curve != "pq" else ending(chosen, {name: getattr(self, name) for name in ENDS})
        return replace(ended, tolerance=self.tolerance, white_xy=aim_of(chosen.white_xy, self.whites))

    @property
    def whites(self) -> list[WhitePart]:
        """The parts of its white beside the target's own."""
        return parts_of(self.white_parts)

    @property
    def standard_white(self) -> XY:
        """The x, y of its target's own white, before any part."""
        chosen = free_target(self.free) if self.target_name == "free" and self.free else TARGETS[self.target_name]
        return chosen.white_xy

    @property
    def white_chain(self) -> list[str]:
        """Its white in words, part by part, from the standard's to what is aimed at."""
        return chain(self.standard_white, self.whites)

    @property
    def target_label(self) -> str:
        """The target in words, with its luminance where one was set."""
        label = free_label(self.free) if self.target_name == "free" and self.free else TARGET_LABELS[self.target_name]
        if self.white_parts:
            label = f"{label}, white {' '.join(self.white_chain[-1].replace(',', '').split()[1:])}"
        return label if self.luminance is None else f"{label}, {self.luminance:.0f} cd/m²"
