"""The stand-ins follow the device link: the same rules that a stranger's server would be held to."""

import json
import socket

import pytest


class Talk:
    """One connection, spoken by hand."""

    def __init__(self, port):
        self.socket = socket.create_connection(("127.0.0.1", port), 5)
        self.file = self.socket.makefile("rb")
        self.number = 0

    def raw(self, data):
        self.socket.sendall(data)
        return json.loads(self.file.readline())

    def ask(self, method, **params):
        self.number += 1
        line = json.dumps({"jsonrpc": "2.0", "id": self.number, "method": method, "params": params}).encode() + b"\n"
        answer = self.raw(line)
        assert answer["jsonrpc"] == "2.0"
        assert answer["id"] == self.number
        return answer

    def result(self, method, **params):
        answer = self.ask(method, **params)
        assert "error" not in answer, answer
        return answer["result"]

    def code(self, method, **params):
        return self.ask(method, **params)["error"]["code"]

    def close(self):
        self.file.close()
        self.socket.close()


@pytest.fixture
def talk(bench):
    open_ = []

    def to(device):
        open_.append(Talk(device.port))
        return open_[-1]

    yield to
    for one in open_:
        one.close()


@pytest.fixture
def display(bench, talk):
    made = talk(bench.displays[0])
    made.result("pair")
    made.token = made.result("pair", code="4711")["token"]
    return made


def test_the_directory_lists_every_device_with_its_address(bench, talk):
    rows = talk(bench.directory).result("list")
    assert {(row["role"], row["serial"], row["port"]) for row in rows} == {
        (d.role, d.serial, d.port) for d in bench.devices
    }


@pytest.mark.parametrize("which", range(5))
def test_every_device_describes_itself_unpaired(bench, talk, which):
    device = [bench.directory, *bench.devices][which]
    said = talk(device).result("describe")
    assert said["link"] == 1
    assert said["role"] == device.role
    assert all(isinstance(said[name], str) for name in ("maker", "model", "serial", "firmware"))


@pytest.mark.parametrize(
    ("line", "code"),
    [
        (b'{"jsonrpc": "2.0", "id": 9, \n', -32700),
        (b'{"jsonrpc":"2.0","id":9,"method":"describe","params":{"x":NaN}}\n', -32700),
        (b"\xff\xfe\n", -32700),
        (b'{"jsonrpc":"2.0","id":9}\n', -32600),
        (b'[{"jsonrpc":"2.0","id":9,"method":"describe"}]\n', -32600),
        (b'{"jsonrpc":"2.0","id":9,"method":"no.such"}\n', -32601),
        (b'{"jsonrpc":"2.0","id":9,"method":"describe","params":[1]}\n', -32602),
        (b'{"jsonrpc":"2.0","id":{"a":1},"method":"describe"}\n', -32600),
    ],
)
def test_bad_lines_get_their_code_and_the_connection_goes_on(bench, talk, line, code):
    one = talk(bench.meters[0])
    assert one.raw(line)["error"]["code"] == code
    assert one.result("describe")["role"] == "meter"


def test_a_notification_gets_no_answer_and_requests_are_answered_in_order(bench, talk):
    one = talk(bench.sources[0])
    one.socket.sendall(b'{"jsonrpc":"2.0","method":"describe"}\n')
    lines = b"".join(b'{"jsonrpc":"2.0","id":%d,"method":"describe"}\n' % i for i in (7, 8, 9))
    one.socket.sendall(lines)
    assert [json.loads(one.file.readline())["id"] for _ in range(3)] == [7, 8, 9]


def test_a_meter_reads_what_the_source_shows(bench, talk):
    source, meter = talk(bench.sources[0]), talk(bench.meters[1])
    bench.displays[0].set_control("m2", "eco-1", "Off")
    readings = []
    for code in (16, 126, 235):
        assert source.result("patch", rgb=[code] * 3, window=10) == {}
        readings.append(meter.result("read")["xyz"][1])
    assert readings[0] < 0.2
    assert readings[0] < readings[1] < readings[2]
    assert 100 < readings[2] < 200


def test_averaging_takes_longer_and_the_clock_goes_forward(bench, talk):
    meter = talk(bench.meters[0])
    talk(bench.sources[0]).result("patch", rgb=[180] * 3, window=10)
    one, four = meter.result("read"), meter.result("read", average=4)
    assert four["seconds"] == pytest.approx(4 * one["seconds"], rel=0.05)
    assert four["clock"] - one["clock"] >= four["seconds"]


@pytest.mark.parametrize(
    ("params", "code"),
    [
        ({"average": 0}, -32602),
        ({"average": 65}, -32602),
        ({"average": 1.5}, -32602),
        ({"average": True}, -32602),
        ({"effort": "heroic"}, 4),
        ({"spectrum": True}, 8),
    ],
)
def test_a_meter_refuses_what_it_cannot_do(bench, talk, params, code):
    assert talk(bench.meters[0]).code("read", **params) == code


def test_black_below_the_floor_is_too_dark(bench, talk):
    talk(bench.sources[0]).result("blank")
    bench.displays[0].set_control("m2", "pic-1", 0)
    answer = talk(bench.meters[1]).ask("read")
    assert answer["error"]["code"] == 6
    assert answer["error"]["data"] == {"floor": 0.01}


@pytest.mark.parametrize(
    ("params", "code"),
    [
        ({"rgb": [256, 0, 0], "window": 10}, -32602),
        ({"rgb": [-1, 0, 0], "window": 10}, -32602),
        ({"rgb": [16, 16], "window": 10}, -32602),
        ({"rgb": [16.5, 16, 16], "window": 10}, -32602),
        ({"rgb": [16, 16, 16], "window": 0}, -32602),
        ({"rgb": [16, 16, 16], "window": 101}, -32602),
        ({"rgb": [16, 16, 16], "window": 10, "at": [2, 0]}, -32602),
        ({"window": 10}, -32602),
    ],
)
def test_a_source_refuses_a_picture_that_does_not_exist(bench, talk, params, code):
    assert talk(bench.sources[0]).code("patch", **params) == code


def test_a_source_refuses_a_signal_that_it_does_not_send(bench, talk):
    source = talk(bench.sources[0])
    good = {"format": "sdr", "colorimetry": "bt709", "bits": 8, "range": "limited", "frame_rate": 60}
    assert source.result("signal", **good) == {}
    for wrong in ({"format": "analogue"}, {"bits": 9}, {"frame_rate": 17.5}, {"range": "wide"}, {"colorimetry": "x"}):
        assert source.code("signal", **{**good, **wrong}) == 10
    del good["bits"]
    assert source.code("signal", **good) == -32602


def test_a_window_away_from_the_meter_is_not_read(bench, talk):
    source, meter = talk(bench.sources[0]), talk(bench.meters[1])
    source.result("patch", rgb=[235] * 3, window=4, at=[0.1, 0.1])
    assert meter.result("read")["xyz"][1] < 0.3


def test_a_display_wants_pairing_and_counts_the_tries(bench, talk):
    display = talk(bench.displays[0])
    assert display.code("state", token="nobody") == 1
    assert display.code("modes") == 1
    assert display.result("pair") == {"shown": True}
    for left in (2, 1, 0):
        answer = display.ask("pair", code="0000")
        assert answer["error"]["code"] == 2
        assert answer["error"]["data"]["left"] == left
    assert display.code("pair", code="4711") == 2  # the code was taken back: a new one must be shown
    display.result("pair")
    assert display.result("pair", code="4711")["token"]


def test_controls_are_set_rounded_refused_and_reset(bench, display):
    token = {"token": display.token, "mode": "m2"}
    assert display.result("set", **token, control="wb-gr", value=7.4) == {"value": 7}
    answer = display.ask("set", **token, control="wb-gr", value=51)
    assert answer["error"]["code"] == 3
    assert answer["error"]["data"] == {"control": "wb-gr", "min": -50, "max": 50, "step": 1}
    assert display.code("set", **token, control="wb-gr", value="loud") == -32602
    assert display.code("set", **token, control="pic-4", value="Deeper") == 4
    assert display.code("set", **token, control="none", value=1) == 4
    now = {c["id"]: c["value"] for c in display.result("controls", **token)}
    assert now["wb-gr"] == 7
    assert display.result("reset", **token) == {}
    assert all(c["value"] == c["default"] for c in display.result("controls", **token))
    assert display.code("install", **token, what="curves", data={}) == 8


def test_state_follows_the_choice_of_a_mode(bench, display):
    for mode in ("m1", "m2"):
        assert display.result("choose", token=display.token, mode=mode) == {}
        assert display.result("state", token=display.token)["mode"] == mode
    assert display.code("choose", token=display.token, mode="m9") == 4
