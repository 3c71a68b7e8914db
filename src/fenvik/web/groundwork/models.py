"""What a person said of a check, and which patterns were looked at."""

from django.db import models

from fenvik.web.kit.models import FirmModel


class Answer(models.TextChoices):
    RIGHT = "right", "as it should be"
    CHANGED = "changed", "changed"
    LEFT_ON = "left-on", "left on"
    OPEN = "open", "to be looked at again"


class CheckAnswer(FirmModel):
    """An answer to a check; never changed: the newest of a check counts."""

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="answers")
    check_id = models.CharField(max_length=60, db_column="what")
    answer = models.CharField(max_length=8, choices=Answer.choices)
    before = models.CharField(max_length=80, blank=True)
    after = models.CharField(max_length=80, blank=True)
    because = models.CharField(max_length=200, blank=True)
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)

    class Meta:
        indexes = [models.Index(fields=["tuning", "id"])]
        constraints = [
            models.CheckConstraint(
                condition=~models.Q(answer="left-on") | ~models.Q(because=""), name="left_on_has_its_reason"
            )
        ]
