"""How a tuning is measured: with what, how its meter reads, and how a patch is shown."""

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models

from fenvik.core.measure.averaging import LowLight
from fenvik.core.signal.decoding import Range
from fenvik.web.kit.models import FirmModel


class Measuring(FirmModel):
    """How a tuning is measured."""

    firm_path = "tuning__visit__firm_id"
    measuring_key = models.BigAutoField(primary_key=True, db_column="id")
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
    correction = models.ForeignKey(
        "corrections.Correction", null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    correction_choice = models.CharField(
        max_length=8, choices=[("auto", "where one fits"), ("chosen", "chosen"), ("none", "none")], default="auto"
    )

    class Meta:
        constraints = [
            models.CheckConstraint(condition=models.Q(window__gt=0, window__lte=100), name="window_within_screen")
        ]

    @property
    def range(self) -> Range:
        """The range of the code values that its source sends."""
        own = None if self.source is None else self.source.facts.get("range")
        return "full" if (own or self.signal_range) == "full" else "limited"

    @property
    def low_light(self) -> LowLight | None:
        """The rule for dark readings; None where there is none."""
        return LowLight(self.low_below, self.low_average, self.low_effort) if self.low_below > 0 else None
