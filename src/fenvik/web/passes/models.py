"""Passes and their readings."""

from functools import cached_property

import numpy as np
from django.db import models

from fenvik.core.types import Floats
from fenvik.web.kit.models import FirmModel


class PassPurpose(models.TextChoices):
    FOUND = "found", "as found"
    CHECK = "check", "check"
    LEFT = "left", "as left"
    ADJUST = "adjust", "adjusting"
    WARM_UP = "warm-up", "warm-up"
    CORRECTION = "correction", "making a correction"
    AIM = "aim", "aiming the meter"
    TRY = "try", "trying out"
    HANDS_FREE = "hands-free", "adjusting hands-free"
    SURVEY = "survey", "survey of modes"
    WHITES = "whites", "whites to choose from"
    SHIFT = "shift", "shift of a mode"
    PANEL = "panel", "what the panel gives"


# Passes whose readings are not about the picture of their tuning's mode; and those of them that are about the instruments.
NOT_OF_THE_MODE = (
    PassPurpose.CORRECTION, PassPurpose.AIM, PassPurpose.TRY, PassPurpose.SURVEY, PassPurpose.WHITES, PassPurpose.SHIFT,
    PassPurpose.PANEL,
)  # fmt: skip
OF_INSTRUMENTS = NOT_OF_THE_MODE[:3]
PICTURES = (PassPurpose.FOUND, PassPurpose.CHECK, PassPurpose.LEFT)


class PassState(models.TextChoices):
    QUEUED = "queued", "waiting for a worker"
    RUNNING = "running", "running"
    PAUSED = "paused", "paused"
    WAITING = "waiting", "waiting for a device"
    DONE = "done", "done"
    STOPPED = "stopped", "stopped"


OPEN_STATES = (PassState.QUEUED, PassState.RUNNING, PassState.PAUSED, PassState.WAITING)


class Pass(FirmModel):
    """One run through a list of patches; ``repeat`` reads the one patch of the list until it is stopped.

    A patch says which meter reads it, ``by``, where there are two. ``correction`` is what its readings are looked at through.
    ``asks`` is what a person is asked to show or to type, ``answer`` what they said.

    ``run_token`` fences workers: only the one that holds it may store readings.
    """

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="passes")
    purpose = models.CharField(max_length=12, choices=PassPurpose.choices)
    patches = models.JSONField()
    repeat = models.BooleanField(default=False)
    meter = models.ForeignKey("devices.Device", on_delete=models.PROTECT, related_name="+")
    source = models.ForeignKey("devices.Device", on_delete=models.PROTECT, related_name="+")
    reference = models.ForeignKey("devices.Device", null=True, on_delete=models.PROTECT, related_name="+")
    meter_facts = models.JSONField()
    correction = models.ForeignKey("corrections.Correction", null=True, on_delete=models.PROTECT, related_name="+")
    bits = models.PositiveSmallIntegerField()
    range = models.CharField(max_length=8, default="limited")
    window = models.FloatField()
    settle_s = models.FloatField()
    average = models.PositiveSmallIntegerField()
    effort = models.CharField(max_length=40, blank=True)
    surround = models.FloatField(default=0.0)  # percent of signal
    frame_rate = models.FloatField(null=True)
    low_light = models.JSONField(null=True)  # below, average, effort: how dark patches are read again
    asks = models.JSONField(null=True)
    answer = models.JSONField(null=True)
    interval_s = models.FloatField(default=0.0)  # between two readings of a repeating pass
    signal_format = models.CharField(max_length=8, default="sdr")
    colorimetry = models.CharField(max_length=8, default="bt709")
    mastering = models.JSONField(null=True)  # max, min, max_cll, max_fall in cd/m², as they are sent with an HDR signal
    reference_effort = models.CharField(max_length=40, blank=True)
    settling = models.BooleanField(default=False)  # each patch is read until two readings agree
    drift_kept = models.BooleanField(default=False)  # what whites say of drift is not taken out
    file_name = models.CharField(max_length=120, blank=True)  # of readings that were taken up
    state = models.CharField(max_length=8, choices=PassState.choices, default=PassState.QUEUED)
    reason = models.TextField(blank=True)
    run_token = models.UUIDField(null=True)
    tries = models.PositiveSmallIntegerField(default=0)  # how often in a row it could not be taken over
    created_at = models.DateTimeField()
    created_by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    pause_asked_at = models.DateTimeField(null=True)
    stop_asked_at = models.DateTimeField(null=True)
    summary = models.JSONField(null=True)
    complete = models.BooleanField(default=False)  # it has ended, and every patch of its list was read
    named_at = models.DateTimeField(null=True)  # since when a person wants it as the proof of its purpose
    removed_at = models.DateTimeField(null=True)  # put away: it proves nothing and is shown nowhere
    name = models.CharField(max_length=60, blank=True)  # what a person calls it: "dimming high"

    class Meta:
        indexes = [models.Index(fields=["tuning", "-created_at"])]
        constraints = [
            # One pass on one meter, one source, one tuning: also for a double click and for two people.
            models.UniqueConstraint(
                fields=[field], condition=models.Q(finished_at__isnull=True), name=f"one_open_pass_a_{field}"
            )
            for field in ("meter", "source", "tuning", "reference")
        ]

    @property
    def matrix(self) -> Floats | None:
        """The correction's matrix (3, 3), or None where readings are looked at as they were taken."""
        return None if self.correction is None else np.asarray(self.correction.matrix, dtype=np.float64)

    @property
    def is_file(self) -> bool:
        """Whether its readings came from a file, and not from this display as it stands."""
        return bool(self.file_name)

    @property
    def mend(self) -> str:
        """The act that would set right how the display stood."""
        there = getattr(self, "circumstance", None)
        return "" if there is None else str(there.mend)

    @property
    def is_parked(self) -> bool:
        """Whether nobody works on it until a person answers what it asks."""
        return self.state == PassState.RUNNING and self.run_token is None and self.asks is not None

    @property
    def is_open(self) -> bool:
        """Whether it still holds its devices."""
        return self.finished_at is None


class Circumstance(FirmModel):
    """How warm the display was when a pass began, and how it stood then: of display_*, what it said of itself.

    ``mend``: the act that would set it right; ``any_input``: a person has said that another input is meant.
    """

    firm_path = "pass_of__tuning__visit__firm_id"
    pass_of = models.OneToOneField(Pass, primary_key=True, on_delete=models.CASCADE, related_name="circumstance")
    warm_up_watched = models.BooleanField(null=True)  # null: it does not matter to this pass
    settled_at = models.DateTimeField(null=True)
    minutes_left = models.FloatField(null=True)
    remaining_y = models.FloatField(null=True)  # share of white that was still to come
    display_mode = models.CharField(max_length=120, blank=True)
    display_signal = models.CharField(max_length=40, blank=True)
    display_input = models.CharField(max_length=120, blank=True)
    mend = models.CharField(max_length=20, blank=True)
    any_input = models.BooleanField(default=False)


class PatchMark(FirmModel):
    """What a person has said of one patch of a pass: that it is to be read again, or that what it waits for is done."""

    firm_path = "pass_of__tuning__visit__firm_id"
    pass_of = models.ForeignKey(Pass, on_delete=models.CASCADE, related_name="marks")
    index = models.PositiveIntegerField()
    again_after = models.BigIntegerField(null=True)  # readings up to this one no longer count
    held = models.BooleanField(default=False)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["pass_of", "index"], name="patch_mark_once")]


class PatchList(FirmModel):
    """A list of the firm's own: ``patches`` are rows of a label and three percentages of signal."""

    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    name = models.CharField(max_length=80)
    patches = models.JSONField()
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["firm", "name"], name="patch_list_once_a_firm")]

    def __str__(self) -> str:
        return self.name


class Reading(FirmModel):
    """One result of the meter, uncorrected. Never changed or deleted: the newest of an index counts.

    ``seen`` is what it says through the pass's correction; that is what screens and computations take.
    """

    firm_path = "pass_of__tuning__visit__firm_id"
    pass_of = models.ForeignKey(Pass, on_delete=models.PROTECT, related_name="readings", db_column="pass_id")
    index = models.PositiveIntegerField()
    label = models.CharField(max_length=80)
    part = models.CharField(max_length=12, default="main", db_default="main")  # which of core.lists.Part its patch was
    r = models.IntegerField()
    g = models.IntegerField()
    b = models.IntegerField()
    x = models.FloatField()
    y = models.FloatField()
    z = models.FloatField()
    too_dark = models.BooleanField(default=False)
    average = models.PositiveSmallIntegerField(default=1, db_default=1)
    effort = models.CharField(max_length=40, blank=True, default="", db_default="")
    seconds = models.FloatField()
    clock = models.FloatField()
    started_at = models.DateTimeField()
    at = models.DateTimeField()
    # The newest change of the tuning's controls when it was begun, 0 before any: what it knew, by the database's own order. Two
    # machines' clocks cannot tell that. Null for what came from a file.
    knew = models.BigIntegerField(null=True)

    class Meta:
        indexes = [models.Index(fields=["pass_of", "id"])]

    @cached_property
    def seen(self) -> tuple[float, float, float]:
        """XYZ in cd/m² through the correction of its pass; as it was taken where two meters are compared."""
        matrix = self.pass_of.matrix
        if matrix is None or self.part == "comparison":
            return self.x, self.y, self.z
        x, y, z = matrix @ (self.x, self.y, self.z)
        return float(x), float(y), float(z)


class ImportState(models.TextChoices):
    WAITING = "waiting", "waiting"
    READING = "reading", "being taken up"
    DONE = "done", "taken up"
    REFUSED = "refused", "refused"
    STOPPED = "stopped", "stopped"


class ReadingsImport(FirmModel):
    """A large file of readings on its way into a tuning; a worker takes it up. ``seen_at``: when anybody waited for it last."""

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="imports")
    purpose = models.CharField(max_length=12, choices=PassPurpose.choices)
    name = models.CharField(max_length=120)
    data = models.BinaryField()  # emptied when it has ended
    state = models.CharField(max_length=8, choices=ImportState.choices, default=ImportState.WAITING)
    rows = models.PositiveIntegerField(default=0)
    stored = models.PositiveIntegerField(default=0)
    problem = models.TextField(blank=True)
    made = models.ForeignKey(Pass, null=True, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField()
    created_by = models.ForeignKey("people.User", on_delete=models.PROTECT)
    seen_at = models.DateTimeField()

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["tuning"], condition=models.Q(state__in=["waiting", "reading"]), name="one_open_import_a_tuning"
            )
        ]

    @property
    def is_open(self) -> bool:
        """Whether it is still on its way."""
        return self.state in (ImportState.WAITING, ImportState.READING)

    @property
    def percent(self) -> int:
        """How far it has come."""
        return round(100 * self.stored / self.rows) if self.rows else 0
