"""Visits and tunings: the units of work."""

from dataclasses import dataclass, replace
from typing import Any

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models

from fenvik.core.colour.space import BT709, BT2020, D65_XY, P3D65, XY, Primaries
from fenvik.core.colour.target import TARGETS, Target
from fenvik.core.measure.averaging import LowLight
from fenvik.core.signal.decoding import Range
from fenvik.web.kit.models import FirmModel, PutAwayModel
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
SIGNALS = {"sdr": "SDR", "hdr10": "HDR10", "hlg": "HLG", "dynamic": "dynamic metadata"}
PRIMARIES = {"bt709": ("BT.709", BT709), "p3d65": ("P3-D65", P3D65), "bt2020": ("BT.2020", BT2020)}
FREE_CURVES = {"bt1886": "BT.1886", "power": "gamma", "srgb": "sRGB", "pq": "PQ", "hlg": "HLG"}
CARRIED = {"hdr10": "pq", "dynamic": "pq", "hlg": "hlg"}  # the curve that a signal is made with


ROLL_OFFS = {"clip": "clipped at the display's peak", "bt2390": "rolled off by BT.2390", "points": "by points of my own"}
ROLLED_BY = {
    "light": "each light by itself", "greatest": "all three, by the greatest of them", "luminance": "all three, by their luminance",
}  # fmt: skip
ENDS = ("roll_off", "rolled_by", "mastered", "mastered_least", "max_cll", "diffuse", "knees")
LEAST_MASTERED = 0.005  # cd/m², of the mastering display, unless it is said


def first_lists() -> dict[str, Any]:
    """Return what a tuning reads unless it is told otherwise."""
    return {"chosen": ["grey-11", "colours-100"]}


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


class Visit(PutAwayModel):
    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    client = models.ForeignKey("clients.Client", on_delete=models.PROTECT, related_name="visits")
    on = models.DateField()
    starts = models.TimeField(null=True, blank=True)
    calibrator = models.ForeignKey("people.User", null=True, blank=True, on_delete=models.PROTECT)
    notes = models.TextField(blank=True)
    cancelled_at = models.DateTimeField(null=True, editable=False)
    cancelled_why = models.CharField(max_length=200, blank=True)

    class Meta:
        indexes = [models.Index(fields=["firm", "-on"])]


class Purpose(models.TextChoices):
    NIGHT = "night", "night"
    DAY = "day", "day"
    GAME = "game", "game"
    FILM = "film", "film"


@dataclass(frozen=True)
class Place:
    """Where a person works at Adjust: the high and the low end of the white balance, in percent of signal, and at which."""

    high: float = 80.0
    low: float = 30.0
    end: str = "high"


class Tuning(PutAwayModel):
    firm_path = "visit__firm_id"
    visit = models.ForeignKey(Visit, on_delete=models.PROTECT, related_name="tunings")
    display = models.ForeignKey("clients.Display", on_delete=models.PROTECT, related_name="tunings")
    name = models.CharField(max_length=80)
    picture_mode = models.CharField(max_length=60)
    mode_id = models.CharField(max_length=80, blank=True)  # the display's own name of the mode, on its link
    signal = models.CharField(max_length=8, choices=list(SIGNALS.items()), default="sdr")
    purpose = models.CharField(max_length=8, choices=Purpose.choices, default=Purpose.NIGHT)
    target_name = models.CharField(max_length=24, choices=list(TARGET_LABELS.items()), default="bt709-bt1886")
    free = models.JSONField(null=True, blank=True)  # of a free target: primaries, white, curve, gamma
    tolerance = models.FloatField(default=1.0, validators=[MinValueValidator(0.1), MaxValueValidator(10.0)])
    luminance = models.FloatField(null=True, blank=True, validators=[MinValueValidator(5.0), MaxValueValidator(5000.0)])
    notes = models.TextField(blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    # How it is measured.
    meter = models.ForeignKey("devices.Device", null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    source = models.ForeignKey("devices.Device", null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    window = models.FloatField(default=10.0, validators=[MinValueValidator(1.0), MaxValueValidator(100.0)])
    settle_s = models.FloatField(default=0.5, validators=[MinValueValidator(0.0), MaxValueValidator(30.0)])
    settles = models.CharField(max_length=8, choices=[("wait", "wait"), ("agree", "two agree")], default="wait")
    average = models.PositiveSmallIntegerField(default=1, validators=[MinValueValidator(1), MaxValueValidator(64)])
    bits = models.PositiveSmallIntegerField(default=8, choices=[(8, "8 bit"), (10, "10 bit"), (12, "12 bit")])
    signal_range = models.CharField(max_length=8, choices=[("limited", "limited"), ("full", "full")], default="limited")
    frame_rate = models.FloatField(null=True, blank=True, validators=[MinValueValidator(1.0), MaxValueValidator(240.0)])
    surround = models.FloatField(default=0.0, validators=[MinValueValidator(0.0), MaxValueValidator(100.0)])
    effort = models.CharField(max_length=40, blank=True)  # by the meter's own name; empty is its usual one
    low_below = models.FloatField(default=0.0, validators=[MinValueValidator(0.0), MaxValueValidator(100.0)])
    low_average = models.PositiveSmallIntegerField(default=4, validators=[MinValueValidator(1), MaxValueValidator(64)])
    low_effort = models.CharField(max_length=40, blank=True)
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
    lists = models.JSONField(default=first_lists)  # which patch lists its next pass reads, and how they are put together
    correction = models.ForeignKey(
        "corrections.Correction", null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    correction_choice = models.CharField(
        max_length=8, choices=[("auto", "where one fits"), ("chosen", "chosen"), ("none", "none")], default="auto"
    )
    corrects_curve = models.BooleanField(default=True)  # whether points change luminance too, and not the balance alone
    # Where whoever has loaded it works at Adjust: of a person and not of the tuning, so not of its row.
    place: Place = Place()

    class Meta:
        indexes = [models.Index(fields=["visit"])]
        constraints = [
            models.CheckConstraint(condition=models.Q(tolerance__gt=0), name="tolerance_above_zero"),
            models.CheckConstraint(condition=models.Q(window__gt=0, window__lte=100), name="window_within_screen"),
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
    def range(self) -> Range:
        """The range of the code values that its source sends."""
        own = None if self.source is None else self.source.facts.get("range")
        return "full" if (own or self.signal_range) == "full" else "limited"

    @property
    def low_light(self) -> LowLight | None:
        """The rule for dark readings; None where there is none."""
        return LowLight(self.low_below, self.low_average, self.low_effort) if self.low_below > 0 else None

    @property
    def target_label(self) -> str:
        """The target in words, with its luminance where one was set."""
        label = free_label(self.free) if self.target_name == "free" and self.free else TARGET_LABELS[self.target_name]
        if self.white_parts:
            label = f"{label}, white {' '.join(self.white_chain[-1].replace(',', '').split()[1:])}"
        return label if self.luminance is None else f"{label}, {self.luminance:.0f} cd/m²"

    def __str__(self) -> str:
        return self.name


class WhiteCandidate(FirmModel):
    """A white that a firm offers: an offset in u′v′ from the standard's, why, and for which technology."""

    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    name = models.CharField(max_length=60)
    du = models.FloatField(validators=[MinValueValidator(-0.06), MaxValueValidator(0.06)])
    dv = models.FloatField(validators=[MinValueValidator(-0.06), MaxValueValidator(0.06)])
    why = models.CharField(max_length=120, blank=True)
    technology = models.CharField(max_length=24, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["firm", "name"], name="white_candidate_once_a_firm")]

    def __str__(self) -> str:
        return self.name
