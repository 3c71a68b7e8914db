"""What tests of the web share: a tuning with a ten-bit source, and passes run in place."""

import pytest

from fenvik.web.devices.models import Device


@pytest.fixture
def ready(equipped):
    equipped.source = Device.objects.get(serial="BP1-1180")
    equipped.bits = 10
    equipped.save()
    return equipped
