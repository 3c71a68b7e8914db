"""What tests of the web share: a tuning with a ten-bit source, and passes run in place."""

import pytest

from fenvik.web.devices.models import Device
from fenvik.web.passes import engine


@pytest.fixture
def ready(equipped):
    equipped.source = Device.objects.get(serial="BP1-1180")
    equipped.bits = 10
    equipped.save()
    return equipped


@pytest.fixture
def impatient(settings):
    settings.LINK_SLACK_S = 0.6
    settings.DEVICE_PATIENCE_S = 2.0
    engine.stopping.clear()
