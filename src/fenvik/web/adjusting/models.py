"""What was turned, and what was learned from it."""

from django.db import models

from fenvik.web.kit.models import FirmModel


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
