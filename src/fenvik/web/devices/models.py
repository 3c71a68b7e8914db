"""Meters and sources of a firm, and where they are reached."""

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models

from fenvik.web.kit.models import FirmModel

PORT = [MinValueValidator(1), MaxValueValidator(65535)]


class DeviceRole(models.TextChoices):
    METER = "meter", "meter"
    SOURCE = "source", "source"
    DISPLAY = "display", "display"


class Device(FirmModel):
    """``facts`` is the device's own description; the address is asked of the directory anew whenever it is used."""

    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    role = models.CharField(max_length=8, choices=DeviceRole.choices)
    name = models.CharField(max_length=120)
    serial = models.CharField(max_length=120)
    host = models.CharField(max_length=120)
    port = models.PositiveIntegerField(validators=PORT)
    directory_host = models.CharField(max_length=120, blank=True)
    directory_port = models.PositiveIntegerField(null=True, blank=True, validators=PORT)
    facts = models.JSONField(default=dict)
    seen_at = models.DateTimeField(null=True)
    removed_at = models.DateTimeField(null=True)  # no longer offered; what was read with it keeps its name
    pace = models.JSONField(default=dict)  # by effort: how long it really takes, as a share of its own account
    tried = models.JSONField(null=True)  # what it said when it was last tried out

    class Meta:
        constraints = [models.UniqueConstraint(fields=["firm", "serial"], name="device_serial_once_a_firm")]

    def __str__(self) -> str:
        return self.name

    @property
    def is_keyed(self) -> bool:
        """Whether a person shows its patches or types its values."""
        return bool(self.facts.get("keyed"))

    @property
    def slowest(self) -> str:
        """The name of a meter's slowest effort; empty where it has but one."""
        return str((self.facts.get("efforts") or [""])[-1])

    @property
    def address(self) -> str:
        """Where it is reached, in words."""
        if self.is_keyed:
            return "keyed in"
        return "this visit" if "screen" in self.facts else f"{self.host}:{self.port}"


class Pairing(FirmModel):
    """The token that a display gave for its code. It opens the display's controls, so it is never shown."""

    firm_path = "device__firm_id"
    device = models.OneToOneField(Device, on_delete=models.CASCADE, related_name="pairing")
    token = models.CharField(max_length=500)
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)


class Lease(FirmModel):
    """Who uses a device, or a display as such: one pass of one tuning, and beside it one person who sets its controls.

    ``epoch`` counts the holders: whoever has an older number holds it no longer. A pass holds it for as long as it is open; a
    person until ``until``, which every step moves on. ``alone``: while the pass is open nobody else may set anything.
    """

    firm_path = "firm_id"
    firm = models.ForeignKey("people.Firm", on_delete=models.CASCADE)
    device = models.OneToOneField(Device, null=True, on_delete=models.CASCADE, related_name="lease")
    display = models.OneToOneField("clients.Display", null=True, on_delete=models.CASCADE, related_name="lease")
    epoch = models.BigIntegerField(default=0)
    pass_of = models.ForeignKey("passes.Pass", null=True, on_delete=models.SET_NULL, related_name="+")
    alone = models.BooleanField(default=False)
    person = models.ForeignKey("people.User", null=True, on_delete=models.SET_NULL, related_name="+")
    until = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=models.Q(device__isnull=True) ^ models.Q(display__isnull=True), name="lease_of_one_thing"
            )
        ]
