"""What tests of the web share: a tuning with a ten-bit source, and passes run in place."""

import pytest

from fenvik.web.adjusting import kind
from fenvik.web.adjusting.runner import HandsFreeRunner
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
def stand_ins_follow_at_once(monkeypatch):
    """Nobody waits for a light that is there: how long a slow display is waited for is tested by the clock of a bench."""
    monkeypatch.setattr(HandsFreeRunner, "let_pass", lambda self, seconds: None)
    monkeypatch.setattr(kind, "SEEN_S", dict.fromkeys(kind.SEEN_S, 0.0))
