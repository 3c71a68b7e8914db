"""``fenvik calibrate`` where a device goes for good, and one that is only starting again."""

import json

import pytest

from fenvik.cli import calibrate
from fenvik.link.faults import LinkFault
from fenvik.session import lines
from fenvik.session.lines import Lines, Wanted, WrongSerialError
from fenvik.session.rig import LinkRig

METER, REFERENCE = 0, 1
DISPLAY = 3


@pytest.fixture
def calibrated(bench, monkeypatch, tmp_path):
    """Calibrate a display of the bench; return the exit status, what was written, and how its menu stood before and after."""
    monkeypatch.setattr(lines, "PATIENCE_S", 0.3)
    monkeypatch.setattr(lines, "RETRY_S", 0.05)
    monkeypatch.setattr(LinkRig, "wait", lambda self, seconds: None)
    out, menu = tmp_path / "out.json", bench.displays[DISPLAY].menu

    def act(*more):
        before = dict(menu.values["q2"])
        status = calibrate.run([
            "--directory", bench.address, "--display", "AQ75-0308", "--pair", "4711", "--mode", "q2", "--source", "BP1-1180",
            "--meter", bench.meters[METER].serial, "--target", "bt709-bt1886", "--settle", "0", "--out", str(out), *more,
        ])  # fmt: skip
        return status, json.loads(out.read_text()), before, dict(menu.values["q2"])

    return act


@pytest.mark.parametrize(
    ("keeps", "notes"), [(False, "Every control was put back."), (True, "The settings stand as the list says.")]
)
def test_where_the_meter_goes_what_is_half_done_is_put_back_unless_it_is_to_be_kept(calibrated, bench, keeps, notes):
    bench.meters[METER].fault.start("drop", after=60)
    status, told, before, after = calibrated(*(("--on-stop", "keep") if keeps else ()))
    assert (status, told["restored"], after == before) == (3, not keeps, not keeps)
    assert notes in told["notes"]


@pytest.mark.parametrize(("after", "is_lost"), [(1, True), (6, False)])
def test_without_the_reference_nothing_is_begun_and_what_is_begun_is_brought_to_its_end(calibrated, bench, after, is_lost):
    bench.meters[REFERENCE].fault.start("drop", after=after)
    status, told, before, now = calibrated("--reference", bench.meters[REFERENCE].serial)
    assert (status, told["restored"], told["correction"] is None) == (0, is_lost, is_lost)
    assert (now == before) == is_lost
    said = "nothing is adjusted" if is_lost else "could not be held against it any more"
    assert any(said in note for note in told["notes"])


def test_a_reference_that_is_not_there_is_said_before_anything_is_read(calibrated, capsys, bench):
    read = bench.meters[METER].read
    bench.meters[METER].read = lambda params: pytest.fail("something was read")
    with pytest.raises(FileNotFoundError):
        calibrated("--reference", "NOT-THERE")
    bench.meters[METER].read = read
    assert "no device NOT-THERE" in capsys.readouterr().err


def test_a_device_that_was_there_and_is_missing_from_the_list_may_come_back(bench):
    host, port = bench.address.split(":")
    made = Lines(Wanted((host, int(port)), "D", "1", "m", "S", "M", 10.0, None))
    made.facts["GONE-1"] = {}
    with pytest.raises(LinkFault) as fault:
        made._device("GONE-1", "meter")
    assert fault.value.kind == "absent"
    with pytest.raises(WrongSerialError):
        made._device("NOT-THERE", "meter")
