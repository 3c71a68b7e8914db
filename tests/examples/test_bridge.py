"""The example bridge, on a cable: as a stranger would begin, and as Fenvik takes it up."""

import json
import os
import pty
import socket
import subprocess
import sys
import threading
import tty
from pathlib import Path

import pytest

from fenvik.link.connection import Connection
from fenvik.link.devices import Directory, Meter
from fenvik.link.faults import DeviceError

ROOT = Path(__file__).resolve().parents[2]


class Bridge:
    def __init__(self, *arguments):
        command = [sys.executable, str(ROOT / "examples" / "text_meter_bridge.py"), *arguments]
        self.process, self.meters = subprocess.Popen(command, stdout=subprocess.PIPE, text=True), []
        self.address = self.process.stdout.readline().split()[1]
        with Connection("127.0.0.1", int(self.address.split(":")[1])) as line:
            self.entry = Directory(line).list()[0]

    def meter(self):
        made = Meter(Connection(self.entry.host, self.entry.port, self.entry.name))
        self.meters.append(made)
        return made

    def raw(self, *lines):
        with socket.create_connection((self.entry.host, self.entry.port), 5) as line:
            line.sendall(b"".join(one + b"\n" for one in lines))
            answers = line.makefile()
            return [json.loads(answers.readline()) for _ in lines]

    def end(self):
        for meter in self.meters:
            meter.close()
        self.process.terminate()
        self.process.wait(10)
        self.process.stdout.close()


def pretend(*more):
    return " ".join([sys.executable, str(ROOT / "examples" / "pretend_meter.py"), "--seconds", "0", *more])


@pytest.fixture
def bridge():
    made = Bridge("--command", pretend())
    yield made
    made.end()


def test_it_reads_and_averages(bridge):
    meter = bridge.meter()
    assert meter.describe().facts["kind"] == "colorimeter"
    reading = meter.read(average=8)
    assert reading.xyz[1] == pytest.approx(120, rel=0.005)
    again = meter.read(effort="normal")
    assert again.clock > reading.clock
    meter.close()


def test_it_refuses_as_the_link_says(bridge):
    ask = {"jsonrpc": "2.0", "id": 1, "method": "read"}
    wrong = [
        ({**ask, "params": {"average": 65}}, -32602),
        ({**ask, "params": {"effort": "fast"}}, 4),
        ({**ask, "params": {"spectrum": True}}, 8),
        ({**ask, "params": [1]}, -32602),
        ({**ask, "method": "dance"}, -32601),
        ([ask], -32600),
    ]
    answers = bridge.raw(*[json.dumps(request).encode() for request, _ in wrong], b"READ")
    assert [a["error"]["code"] for a in answers] == [*[code for _, code in wrong], -32700]


def test_a_dark_screen_is_too_dark():
    made = Bridge("--command", pretend("--light", "0"))
    try:
        with pytest.raises(DeviceError, match="Too dark") as no:
            made.meter().read()
        assert no.value.number == DeviceError.TOO_DARK
    finally:
        made.end()


@pytest.fixture
def cable():
    """A serial port whose far side answers what it is told to."""
    far, near = pty.openpty()
    tty.setraw(far)
    tty.setraw(near)
    said = {"answer": b"XYZ 95.05 100.00 108.88\n"}

    def talk():
        rest = b""
        while True:
            try:
                rest += os.read(far, 100)
            except OSError:
                return
            while b"\n" in rest:
                _, _, rest = rest.partition(b"\n")
                os.write(far, said["answer"])

    threading.Thread(target=talk, daemon=True).start()
    made = Bridge("--stream", os.ttyname(near), "--serial", "ON-A-CABLE")
    yield made, said
    made.end()
    os.close(near)
    os.close(far)


def test_it_talks_to_a_serial_port(cable):
    bridge, said = cable
    assert bridge.meter().read(average=2).xyz == (95.05, 100.0, 108.88)
    for answer, number in (
        (b"BRIGHT\n", DeviceError.TOO_BRIGHT),
        (b"BUSY 3\n", DeviceError.BUSY),
        (b"FAULT lamp is out\n", DeviceError.INSIDE),
        (b"%%% ?\n", DeviceError.INSIDE),
    ):
        said["answer"] = answer
        with pytest.raises(DeviceError) as no:
            bridge.meter().read()
        assert no.value.number == number


@pytest.mark.django_db
def test_fenvik_takes_it_up_by_its_directory_and_by_its_own_address(bridge, person, now):
    from fenvik.web.devices.models import Device
    from fenvik.web.devices.services import locate, take_up
    from fenvik.web.devices.trying import try_out

    found = take_up(actor=person, address=bridge.address, now=now)
    assert [d.serial for d in found.devices] == ["MT3-0007"]
    assert found.devices[0].directory_port
    alone = take_up(actor=person, address=f"127.0.0.1:{bridge.entry.port}", now=now).devices[0]
    assert alone.pk == found.devices[0].pk
    assert alone.directory_port is None
    locate(alone).close()
    told = try_out(device=Device.objects.get(pk=alone.pk), now=now)
    assert told["right"]
    assert "cd/m², x 0.31" in told["says"]
