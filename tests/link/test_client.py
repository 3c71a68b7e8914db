"""Fenvik's half of the link, against servers that do what they should not."""

import contextlib
import json
import socket
import threading

import pytest

from fenvik.link.connection import Connection
from fenvik.link.devices import Device, Directory, Meter, Source
from fenvik.link.faults import DeviceError, LinkFault


@contextlib.contextmanager
def server(*answers):
    """Answer each line with the next of these: bytes, a function of the request, or None to close."""
    listening = socket.create_server(("127.0.0.1", 0))
    listening.settimeout(5)

    def run():
        left = list(answers)
        while left:
            try:
                talking, _ = listening.accept()
            except OSError:
                return
            with talking, talking.makefile("rb") as lines:
                for line in lines:
                    if not left:
                        return
                    answer = left.pop(0)
                    if answer is None:
                        break
                    data = answer(json.loads(line)) if callable(answer) else answer
                    if data:
                        talking.sendall(data)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        yield listening.getsockname()[1]
    finally:
        listening.close()
        thread.join(90)


def ok(result):
    return lambda request: json.dumps({"jsonrpc": "2.0", "id": request["id"], "result": result}).encode() + b"\n"


def refuse(code, message, **data):
    return lambda request: (
        json.dumps(
            {"jsonrpc": "2.0", "id": request["id"], "error": {"code": code, "message": message, "data": data}}
        ).encode()
        + b"\n"
    )


def fault_of(*answers, call=None, deadline=1.0):
    with (
        server(*answers) as port,
        Connection("127.0.0.1", port, "The meter") as connection,
        pytest.raises(LinkFault) as caught,
    ):
        (call or (lambda c: c.call("read", {}, deadline)))(connection)
    return caught.value


def test_nobody_there_says_so():
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
    with pytest.raises(LinkFault, match="cannot be reached") as caught:
        Connection("127.0.0.1", port, "The meter").call("describe")
    assert caught.value.kind == "absent"


@pytest.mark.parametrize(
    ("answer", "kind"),
    [
        (None, "closed"),
        (b"%% what\n", "garbage"),
        (b"\xff\xfe\n", "garbage"),
        (b'{"jsonrpc":"1.0","id":1,"result":{}}\n', "garbage"),
        (b'{"jsonrpc":"2.0","id":1,"result":{"y":Infinity}}\n', "garbage"),
        (b'{"jsonrpc":"2.0","id":1}\n', "shape"),
        (b'{"jsonrpc":"2.0","id":77,"result":{}}\n', "shape"),
        (b'{"jsonrpc":"2.0","id":1,"error":{"code":"x"}}\n', "shape"),
        (b'{"jsonrpc":"2.0","id":1,"error":null}\n', "shape"),
    ],
)
def test_what_is_no_answer_is_a_fault_of_its_kind(answer, kind):
    assert fault_of(answer).kind == kind


def test_silence_ends_with_the_deadline():
    fault = fault_of(b"", deadline=0.3)
    assert fault.kind == "silent"
    assert "did not answer" in str(fault)


def test_a_late_answer_is_never_taken_for_the_next_ones():
    with server(b"", ok({"fresh": True})) as port:
        connection = Connection("127.0.0.1", port)
        with pytest.raises(LinkFault):
            connection.call("read", {}, 0.2)
        assert connection.call("describe") == {"fresh": True}
        connection.close()


def test_a_refusal_carries_code_sentence_and_facts():
    with server(refuse(6, "Too dark.", floor=0.01)) as port:
        connection = Connection("127.0.0.1", port, "The meter")
        with pytest.raises(DeviceError, match="Too dark") as caught:
            Meter(connection).read()
        connection.close()
    assert caught.value.number == DeviceError.TOO_DARK
    assert caught.value.data == {"floor": 0.01}


@pytest.mark.parametrize(
    "result",
    [
        {},
        {"xyz": [1, 2], "seconds": 1, "clock": 1},
        {"xyz": "bright", "seconds": 1, "clock": 1},
        {"xyz": [1, 2, True], "seconds": 1, "clock": 1},
        {"xyz": [1, 2, 3], "clock": 1},
        {"xyz": [1, 2, 3], "seconds": -1, "clock": 1},
        [],
    ],
)
def test_a_reading_of_the_wrong_shape_is_believed_by_nobody(result):
    fault = fault_of(ok(result), call=lambda connection: Meter(connection).read())
    assert fault.kind == "shape"
    assert "nothing of it was stored" in str(fault)


GOOD = {"link": 1, "role": "source", "maker": "a", "model": "b", "serial": "c", "firmware": "d", "features": []}
SOURCE = {"formats": ["sdr"], "bits": [8], "frame_rates": [60], "charts": []}


def test_unknown_members_are_ignored():
    with server(ok({**GOOD, **SOURCE, "colour": "green"})) as port, Connection("127.0.0.1", port) as connection:
        assert Device(connection).describe().serial == "c"


@pytest.mark.parametrize("without", ["role", "serial", "features", "bits", "link"])
def test_a_description_without_a_required_member_is_a_fault(without):
    facts = {**GOOD, **SOURCE}
    del facts[without]
    assert fault_of(ok(facts), call=lambda connection: Device(connection).describe()).kind == "shape"


@pytest.mark.parametrize(("told", "kept"), [
    ({"cube": True, "curves": [], "matrix": False, "glow": 3}, {}),
    ({"cube": {"sizes": [17, 129, "33", 1]}, "curves": {"size": 1}, "tone": True}, {"cube": {"sizes": [17]}, "tone": True}),
    ({"cube": {"sizes": 17}, "curves": {"size": 256, "bits": 12}}, {"curves": {"size": 256}}),
])  # fmt: skip
def test_what_a_display_takes_is_what_can_be_given_to_it(told, kept):
    facts = GOOD | {"role": "display", "technology": "oled", "installs": told}
    with server(ok(facts)) as port, Connection("127.0.0.1", port) as connection:
        assert Device(connection).describe().facts["installs"] == kept


@pytest.mark.parametrize("wrong", [{"port": 70000}, {"role": ""}, {"role": "r" * 61}, {"role": None}])
def test_a_directory_with_a_bad_entry_is_a_fault(wrong):
    entry = {"role": "meter", "name": "n", "serial": "s", "host": "127.0.0.1", "port": 7000} | wrong
    assert fault_of(ok([entry]), call=lambda connection: Directory(connection).list()).kind == "shape"


def test_the_stand_ins_are_read_like_any_other_device(bench):
    with Connection("127.0.0.1", bench.directory.port) as connection:
        entries = {entry.serial: entry for entry in Directory(connection).list()}
    source, meter = entries["BP1-1180"], entries["TS2-0031"]
    with Connection(source.host, source.port) as first, Connection(meter.host, meter.port) as second:
        Source(first).signal(format_="sdr", colorimetry="bt709", bits=10, range_="full", frame_rate=60)
        Source(first).patch((1023, 1023, 1023), window=10, surround=(0, 0, 0), at=(0.5, 0.5))
        white = Meter(second).read(average=2)
        Source(first).blank()
        black = Meter(second).read()
    assert white.xyz[1] > 500 * black.xyz[1]
