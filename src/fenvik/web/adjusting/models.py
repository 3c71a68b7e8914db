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
    undoes = models.OneToOneField("self", null=True, on_delete=models.PROTECT, related_name="undone_by")

    class Meta:
        indexes = [models.Index(fields=["tuning", "id"])]
        constraints = [
            models.UniqueConstraint(fields=["group", "control"], name="control_once_a_group"),
            models.CheckConstraint(condition=~models.Q(before=models.F("after")), name="change_changes_something"),
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
