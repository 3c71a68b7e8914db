"""Menu maps and settings sheets."""

from django.db import models

from fenvik.web.kit.models import FirmModel, PutAwayModel


class Origin(models.TextChoices):
    LINK = "link", "read from the display"
    SHAPE = "shape", "a ready-made shape"
    TYPED = "typed", "typed"
    IMPORT = "import", "from a file"
    COPY = "copy", "copied"


class MenuMap(FirmModel):
    """The controls of a model: a list of dicts with id, label, group, kind, role, default and min, max, step or options, off."""

    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    maker = models.CharField(max_length=60)
    model = models.CharField(max_length=60)
    controls = models.JSONField(default=list)
    origin = models.CharField(max_length=8, choices=Origin.choices, default=Origin.TYPED)
    changed_at = models.DateTimeField(auto_now=True)

    def __str__(self) -> str:
        return f"{self.maker} {self.model}"


class Moment(models.TextChoices):
    FOUND = "found", "as found"
    LEFT = "left", "as left"
    NOTED = "noted", "noted in between"


class SettingsSheet(PutAwayModel):
    """The values of all controls at a moment: a dict from control id to value."""

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="sheets")
    moment = models.CharField(max_length=8, choices=Moment.choices)
    values = models.JSONField(default=dict)
    origin = models.CharField(max_length=8, choices=Origin.choices, default=Origin.TYPED)
    note = models.CharField(max_length=120, blank=True)
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)

    class Meta:
        indexes = [models.Index(fields=["tuning", "moment", "-at"])]


class ControlChange(FirmModel):
    """One control that was turned. Changes of one nudge share ``group``; an undoing names what it undoes."""

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="changes")
    group = models.UUIDField()
    control = models.CharField(max_length=80)
    label = models.CharField(max_length=120)
    before = models.JSONField(null=True)  # null: nobody had noted it
    after = models.JSONField()
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)
    reading_before = models.ForeignKey("passes.Reading", null=True, on_delete=models.PROTECT, related_name="+")
    of_pass = models.ForeignKey(
        "passes.Pass", null=True, on_delete=models.PROTECT, related_name="changes"
    )  # the hands-free run that turned it
    undoes = models.OneToOneField("self", null=True, on_delete=models.PROTECT, related_name="undone_by")
    is_told = models.BooleanField(default=False, db_default=False)  # by the display: nobody here has turned it

    class Meta:
        db_table = "adjusting_controlchange"  # as it was called before it moved here
        indexes = [models.Index(fields=["tuning", "id"], name="adjusting_c_tuning__af76f9_idx")]
        constraints = [
            models.UniqueConstraint(fields=["group", "control"], name="control_once_a_group"),
            models.CheckConstraint(condition=~models.Q(before=models.F("after")), name="change_changes_something"),
        ]


class Installed(FirmModel):
    """What a display was given beside its settings, or what was taken away: the newest row of a kind tells what it has.

    The link tells nobody what is installed, so it is kept here with its data: whoever replaces it can bring it back.
    """

    firm_path = "display__room__client__firm_id"
    display = models.ForeignKey("clients.Display", on_delete=models.PROTECT, related_name="installed")
    mode = models.CharField(max_length=120)
    what = models.CharField(max_length=8)  # tone, curves, matrix or cube
    data = models.JSONField(null=True)  # as it was sent; null: taken away
    at = models.DateTimeField()

    class Meta:
        indexes = [models.Index(fields=["display", "mode", "what", "-id"])]
