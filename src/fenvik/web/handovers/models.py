"""What the client gets: a frozen copy behind a private link."""

import secrets

from django.db import models

from fenvik.web.kit.models import FirmModel


def new_token() -> str:
    """Return a long random token: the whole secret of a private link."""
    return secrets.token_urlsafe(32)


class Handover(FirmModel):
    firm_path = "visit__firm_id"
    visit = models.ForeignKey("visits.Visit", on_delete=models.PROTECT, related_name="handovers")
    token = models.CharField(max_length=64, unique=True, default=new_token)
    content = models.JSONField()
    tuning_ids = models.JSONField(default=list)  # beside the content, which is too large to look into for a list
    created_at = models.DateTimeField()
    created_by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)
    expires_at = models.DateTimeField()
    withdrawn_at = models.DateTimeField(null=True)
    opened = models.PositiveIntegerField(default=0)
