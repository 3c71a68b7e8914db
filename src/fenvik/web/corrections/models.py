"""Corrections of the firm's quick meters, with where each comes from."""

from functools import cached_property

from django.db import models

from fenvik.web.corrections.sides import systematic_of
from fenvik.web.kit.models import FirmModel

METHODS = {
    "primaries": "primaries",
    "four-colour": "four-colour",
    "weighted": "weighted fit",
    "least-squares": "least squares",
}


class Correction(FirmModel):
    """``matrix`` (3, 3) makes the meter's XYZ the reference's; ``rows`` are the readings that it was made of.

    A row has ``label``, ``rgb`` (code values), ``reference`` and ``meter`` (XYZ in cd/m², uncorrected). The names of display
    and meters are kept as they were: a correction from a file may be of devices that this firm has never seen.
    """

    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    meter = models.ForeignKey("devices.Device", null=True, on_delete=models.PROTECT, related_name="corrections")
    meter_name = models.CharField(max_length=120)
    meter_serial = models.CharField(max_length=120)
    reference_name = models.CharField(max_length=120)
    reference_serial = models.CharField(max_length=120, blank=True)
    display = models.ForeignKey("clients.Display", null=True, on_delete=models.PROTECT, related_name="corrections")
    maker = models.CharField(max_length=60, blank=True)
    model = models.CharField(max_length=60, blank=True)
    serial = models.CharField(max_length=60, blank=True)
    technology = models.CharField(max_length=24)
    picture_mode = models.CharField(max_length=60, blank=True)
    signal = models.CharField(max_length=8, blank=True)
    method = models.CharField(max_length=16, choices=list(METHODS.items()))
    matrix = models.JSONField()
    rows = models.JSONField()
    bits = models.PositiveSmallIntegerField(default=8)
    range = models.CharField(max_length=8, default="limited")
    effort = models.CharField(max_length=40, blank=True)
    average = models.PositiveSmallIntegerField(default=1)
    repeatability = models.FloatField(default=0.001)  # of the meter at white, relative
    warnings = models.JSONField(default=list)
    note = models.TextField(blank=True)
    made_at = models.DateTimeField()
    made_by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)
    from_pass = models.OneToOneField("passes.Pass", null=True, on_delete=models.PROTECT, related_name="made_correction")
    withdrawn_at = models.DateTimeField(null=True)

    class Meta:
        indexes = [models.Index(fields=["firm", "meter"])]

    @cached_property
    def systematic(self) -> tuple[float, float, float]:
        """How far off what it gives may be, one standard deviation: of Y relative, of x and of y."""
        return systematic_of(self.rows, self.matrix, self.repeatability)

    @property
    def display_name(self) -> str:
        """The display that it was made on."""
        return " ".join(part for part in (self.maker, self.model, self.serial) if part) or "a display"

    def __str__(self) -> str:
        return f"{self.meter_name} on {self.display_name}"


class Comparison(FirmModel):
    """What a pass that reads two meters for a correction was asked for, and what its readings decided.

    ``method``: as asked for, empty where the readings decide; ``additivity``: how far white is from the sum of the three lights, as
    a share, once it is known.
    """

    firm_path = "pass_of__tuning__visit__firm_id"
    pass_of = models.OneToOneField("passes.Pass", primary_key=True, on_delete=models.CASCADE, related_name="comparison")
    method = models.CharField(max_length=16, blank=True)
    at_once = models.BooleanField(default=False)  # both meters see every patch
    additivity = models.FloatField(null=True)
    not_the_sum = models.BooleanField(default=False)  # white has light of its own
    proposed = models.CharField(max_length=16, blank=True)
    set_aside = models.BooleanField(default=False)


class Spectra(FirmModel):
    """The spectra of white, red, green and blue at full signal: rows of label, start_nm, step_nm, values in W/(sr·m²·nm), xyz."""

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="spectra")
    meter = models.ForeignKey("devices.Device", on_delete=models.PROTECT, related_name="+")
    rows = models.JSONField()
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)

    class Meta:
        indexes = [models.Index(fields=["tuning", "-at"])]
