"""Clients, their rooms, and the displays in them."""

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models

from fenvik.web.kit.models import FirmModel, PutAwayModel

LUX = [MinValueValidator(0), MaxValueValidator(200_000)]


def plain(value: float) -> str:
    """Return a number with one decimal where it has any."""
    return f"{value:.1f}".removesuffix(".0")


class Client(PutAwayModel):
    firm = models.ForeignKey("people.Firm", on_delete=models.PROTECT)
    name = models.CharField(max_length=120)
    contact = models.CharField(max_length=200, blank=True)
    phone = models.CharField(max_length=40, blank=True)
    email = models.EmailField(blank=True)
    address = models.CharField(max_length=200, blank=True)
    notes = models.TextField(blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["firm", "name"], condition=models.Q(put_away_at__isnull=True), name="client_name_once_a_firm"
            )
        ]

    def __str__(self) -> str:
        return self.name


class Room(PutAwayModel):
    firm_path = "client__firm_id"
    client = models.ForeignKey(Client, on_delete=models.PROTECT, related_name="rooms")
    name = models.CharField(max_length=80)
    lux_day = models.FloatField(null=True, blank=True, validators=LUX)
    lux_night = models.FloatField(null=True, blank=True, validators=LUX)
    seating_m = models.FloatField(null=True, blank=True, validators=[MinValueValidator(0.3), MaxValueValidator(50)])
    surround = models.CharField(max_length=120, blank=True)
    notes = models.TextField(blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["client", "name"], condition=models.Q(put_away_at__isnull=True), name="room_name_once_a_client"
            )
        ]

    @property
    def light_words(self) -> str:
        """How bright it is there."""
        day = "light by day not measured" if self.lux_day is None else f"{plain(self.lux_day)} lux by day"
        return day if self.lux_night is None else f"{day}, {plain(self.lux_night)} at night"

    @property
    def place_words(self) -> str:
        """How far away the seats are, and what is around the screen."""
        seats = f"{plain(self.seating_m)} m away" if self.seating_m else ""
        return "; ".join(words for words in (seats, self.surround) if words)

    def __str__(self) -> str:
        return self.name


class Technology(models.TextChoices):
    LCD = "lcd", "LCD"
    OLED = "oled", "OLED"
    WRGB_OLED = "wrgb-oled", "WRGB OLED"
    PROJECTOR = "projector", "projector"
    OTHER = "other", "other"


class Display(PutAwayModel):
    firm_path = "room__client__firm_id"
    room = models.ForeignKey(Room, on_delete=models.PROTECT, related_name="displays")
    maker = models.CharField(max_length=60)
    model = models.CharField(max_length=60)
    serial = models.CharField(max_length=60, blank=True)
    technology = models.CharField(max_length=12, choices=Technology.choices, default=Technology.LCD)
    size_in = models.FloatField(null=True, blank=True, validators=[MinValueValidator(5), MaxValueValidator(600)])
    hours = models.PositiveIntegerField(null=True, blank=True, validators=[MaxValueValidator(500_000)])
    screen_gain = models.FloatField(null=True, blank=True, validators=[MinValueValidator(0.1), MaxValueValidator(10)])
    notes = models.TextField(blank=True)
    menu_map = models.ForeignKey("menus.MenuMap", null=True, blank=True, on_delete=models.PROTECT)
    # Its network control, and what it said of itself when it was last asked: mode, signal, input, on_minutes, at.
    link = models.ForeignKey("devices.Device", null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    said = models.JSONField(null=True, blank=True)
    shared = models.JSONField(null=True, editable=False)  # mode, controls with the labels of the modes that share them, on
    questions = models.TextField(blank=True)  # kept open until the next visit

    @property
    def name(self) -> str:
        """Maker and model."""
        return f"{self.maker} {self.model}".strip()

    def __str__(self) -> str:
        return self.name


class Feed(FirmModel):
    """What comes into a display through one input or app: the grid of the handover is made of these."""

    firm_path = "display__room__client__firm_id"
    display = models.ForeignKey(Display, on_delete=models.CASCADE, related_name="feeds")
    through = models.CharField(max_length=60)
    what = models.CharField(max_length=120, blank=True)
    order = models.PositiveSmallIntegerField(default=0)

    class Meta:
        ordering = ["order", "pk"]
        constraints = [models.UniqueConstraint(fields=["display", "through"], name="input_once_a_display")]
