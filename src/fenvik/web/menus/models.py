"""Menu maps and settings sheets."""

from django.db import models

from fenvik.web.kit.models import FirmModel


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


class SettingsSheet(FirmModel):
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
