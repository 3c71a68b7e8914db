"""What was turned, and what was learned from it."""

from django.db import models

from fenvik.web.kit.models import FirmModel


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

    class Meta:
        indexes = [models.Index(fields=["tuning", "id"])]
        constraints = [
            models.UniqueConstraint(fields=["group", "control"], name="control_once_a_group"),
            models.CheckConstraint(condition=~models.Q(before=models.F("after")), name="change_changes_something"),
        ]


class ListKind(models.TextChoices):
    POINTS = "points", "points of the white balance"
    BACK = "back", "everything back to as found"


class ChangeList(FirmModel):
    """Changes that were proposed together and are entered on the display one after the other.

    ``rows`` are control, label, before and after, in the menu's own order. How far a person is follows from the controls'
    values, so nothing is lost with a page, and a value that was turned back is open again.
    """

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="change_lists")
    kind = models.CharField(max_length=8, choices=ListKind.choices)
    rows = models.JSONField()
    expected = models.JSONField(default=dict)  # mean and worst error, now and then
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)
    closed_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["tuning"], condition=models.Q(closed_at__isnull=True), name="one_open_list_a_tuning"
            )
        ]


class LearnedResponse(FirmModel):
    """What a tuning's readings taught about its controls: the next sample of the model starts from it."""

    firm_path = "menu_map__firm_id"
    menu_map = models.ForeignKey("menus.MenuMap", on_delete=models.PROTECT, related_name="learned")
    display = models.ForeignKey("clients.Display", on_delete=models.PROTECT, related_name="+")
    picture_mode = models.CharField(max_length=60)
    tuning = models.OneToOneField("visits.Tuning", on_delete=models.PROTECT, related_name="learned")
    controls = models.JSONField()
    mean = models.JSONField()
    covariance = models.JSONField()
    observed = models.JSONField()
    at = models.DateTimeField()
