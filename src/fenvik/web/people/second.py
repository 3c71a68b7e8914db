"""The second factor: codes of an app that follow the clock (RFC 6238), and ten codes for the day it is lost."""

import base64
import secrets

import segno
from django.db import transaction
from django.utils.safestring import SafeString, mark_safe
from django_otp.plugins.otp_static.models import StaticDevice
from django_otp.plugins.otp_totp.models import TOTPDevice

from fenvik.web.people.log import enter
from fenvik.web.people.models import User

CODES = 10
ALPHABET = "abcdefghjkmnpqrstuvwxyz23456789"  # none that look alike


def has_second(person: User) -> bool:
    """Whether a person signs in with a second factor."""
    return bool(TOTPDevice.objects.filter(user=person, confirmed=True).exists())


def begin(person: User) -> TOTPDevice:
    """Return the device that a person is about to confirm; it lets nobody in before."""
    device, _ = TOTPDevice.objects.get_or_create(user=person, confirmed=False, defaults={"name": "app"})
    return device


def picture(device: TOTPDevice) -> SafeString:
    """Return the device's address as a QR code, in SVG."""
    return mark_safe(segno.make(device.config_url, error="m").svg_inline(scale=4, border=2, dark="#1d2228", light="#fff"))


def shown(device: TOTPDevice) -> dict[str, object]:
    """Return what a person needs to take a device up: the picture, and the key in groups of four to type."""
    key = base64.b32encode(device.bin_key).decode().rstrip("=")
    return {"device": device, "picture": picture(device), "key": " ".join(key[i : i + 4] for i in range(0, len(key), 4))}


@transaction.atomic
def confirm(person: User, code: str) -> list[str] | None:
    """Confirm a device by its code and return the codes for the day it is lost; None for a wrong code."""
    device = begin(person)
    if not device.verify_token(code):
        return None
    TOTPDevice.objects.filter(user=person, confirmed=True).delete()
    device.confirmed = True
    device.save(update_fields=["confirmed"])
    StaticDevice.objects.filter(user=person).delete()
    kept = StaticDevice.objects.create(user=person, name="kept codes")
    codes = ["".join(secrets.choice(ALPHABET) for _ in range(10)) for _ in range(CODES)]
    for each in codes:
        kept.token_set.create(token=each)
    enter(person, "switched the second factor on", about=person.called)
    return codes


@transaction.atomic
def switch_off(person: User) -> None:
    """Let a person sign in with the password alone."""
    TOTPDevice.objects.filter(user=person).delete()
    StaticDevice.objects.filter(user=person).delete()
    enter(person, "switched the second factor off", about=person.called)


def is_right(person: User, code: str) -> bool:
    """Whether a code is one of a person's; wrong ones are slowed down by the devices themselves.

    Each kind is asked for its own codes only: a device slows down after every code that is not its own.
    """
    kind = TOTPDevice if code.isascii() and code.isdigit() else StaticDevice
    return any(device.verify_token(code) for device in kind.objects.filter(user=person, confirmed=True))
