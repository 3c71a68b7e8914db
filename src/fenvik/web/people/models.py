"""Firms and the people in them."""

from django.contrib.auth.models import AbstractUser
from django.db import models


def loopback_only() -> list[str]:
    """Return the networks that a new firm's devices may be in."""
    return ["127.0.0.0/8", "::1/128"]


class Firm(models.Model):
    name = models.CharField(max_length=120)
    networks = models.JSONField(default=loopback_only)

    def __str__(self) -> str:
        return self.name


class Role(models.TextChoices):
    OWNER = "owner", "owner"
    CALIBRATOR = "calibrator", "calibrator"
    OFFICE = "office", "office"


class User(AbstractUser):
    firm = models.ForeignKey(Firm, on_delete=models.PROTECT, related_name="people")
    role = models.CharField(max_length=12, choices=Role.choices, default=Role.CALIBRATOR)

    REQUIRED_FIELDS = ["email", "firm_id"]
