"""Clients, their rooms, and the displays in them."""

from django.db import models

from fenvik.web.kit.models import FirmModel


class Client(FirmModel):
    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    name = models.CharField(max_length=120)
    contact = models.CharField(max_length=200, blank=True)
    notes = models.TextField(blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["firm", "name"], name="client_name_once_a_firm")]

    def __str__(self) -> str:
        return self.name


class Room(FirmModel):
    firm_path = "client__firm_id"
    client = models.ForeignKey(Client, on_delete=models.PROTECT, related_name="rooms")
    name = models.CharField(max_length=80)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["client", "name"], name="room_name_once_a_client")]

    def __str__(self) -> str:
        return self.name


class Technology(models.TextChoices):
    LCD = "lcd", "LCD"
    OLED = "oled", "OLED"
    WRGB_OLED = "wrgb-oled", "WRGB OLED"
    PROJECTOR = "projector", "projector"
    OTHER = "other", "other"


class Display(FirmModel):
    firm_path = "room__client__firm_id"
    room = models.ForeignKey(Room, on_delete=models.PROTECT, related_name="displays")
    maker = models.CharField(max_length=60)
    model = models.CharField(max_length=60)
    serial = models.CharField(max_length=60, blank=True)
    technology = models.CharField(max_length=12, choices=Technology.choices, default=Technology.LCD)
    menu_map = models.ForeignKey("menus.MenuMap", null=True, blank=True, on_delete=models.PROTECT)

    @property
    def name(self) -> str:
        """Maker and model."""
        return f"{self.maker} {self.model}".strip()

    def __str__(self) -> str:
        return self.name
