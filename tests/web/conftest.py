"""What tests of the web share: a tuning with a ten-bit source, and passes run in place."""

import asyncio

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


@pytest.fixture(autouse=True)
def no_loop_of_a_browser():
    """A browser that another file's tests opened in this process leaves its loop marked as running; nothing here is within it."""
    running = asyncio._get_running_loop()
    asyncio._set_running_loop(None)
    yield
    asyncio._set_running_loop(running)
