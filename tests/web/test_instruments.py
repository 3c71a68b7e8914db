"""How a tuning is measured: efforts, dark patches, trying out, aiming; devices of the firm and their networks."""

import threading
import time
from dataclasses import replace

import pytest
from django.urls import reverse

from fenvik.standins import rpc
from fenvik.web.demo.build import served
from fenvik.web.devices.models import Device
from fenvik.web.devices.reaching import AddressError, check_address
from fenvik.web.devices.services import take_up
from fenvik.web.devices.trying import try_out
from fenvik.web.passes import engine, services
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.services import How
from fenvik.web.people.models import Role

pytestmark = pytest.mark.django_db(transaction=True)


def run(tuning, person, now, **more):
    started = services.start_pass(tuning_id=tuning.pk, actor=person, now=now, **more)
    engine.run(started.pk)
    started.refresh_from_db()
    return started


class Other(rpc.Device):
    def __init__(self, role, serial):
        super().__init__("Stonepass", "P4", serial)
        self.role, self.port = role, 9


def test_devices_of_roles_that_fenvik_does_not_use_are_said_and_cost_no_other(bench, person, now):
    bench.directory.devices += [Other("processor", "SP4-1"), Other("lamp", "SP4-2")]
    found = take_up(actor=person, address=bench.address, now=now)
    assert len(found.devices) == len(bench.devices)
    assert [said.split(".")[0] for said in found.problems] == [
        "Stonepass P4 is a processor", "Stonepass P4 says that it is “lamp”",
    ]  # fmt: skip
    alone = replace(bench, displays=[], meters=[], sources=[], directory=Other("processor", "SP4-1"))
    with served(alone) as address, pytest.raises(AddressError, match="is a processor"):
        take_up(actor=person, address=address, now=now)


def form_of(tuning, **changed):
    told = {
        "meter": tuning.meter_id, "source": tuning.source_id, "effort": "", "average": 1, "settle_s": 0, "settles": "wait",
        "low_below": 0,
        "low_average": 4, "low_effort": "", "window": 10, "surround": 0, "bits": 8, "signal_range": "limited", "frame_rate": "",
    }  # fmt: skip
    return told | changed


def test_dark_patches_are_read_again_longer_and_only_the_longer_reading_is_kept(equipped, person, now):
    equipped.low_below, equipped.low_average, equipped.low_effort = 1.0, 8, "slow"
    equipped.save()
    done = run(equipped, person, now)
    rows = list(done.readings.order_by("index"))
    assert len(rows) == 17, "one reading a patch is stored"
    for row in rows:
        dark = row.too_dark or row.y < 1.0
        assert (row.average, row.effort) == ((8, "slow") if dark else (1, "")), row.label
    assert any(row.average == 8 for row in rows)


def test_effort_is_what_the_meter_is_asked_for_and_its_noise_is_counted_by_its_time(equipped, person, now):
    from fenvik.web.results.assemble import analysis_of

    quick = run(equipped, person, now)
    equipped.effort = "slow"
    equipped.save()
    slow = run(equipped, person, now)
    first, second = quick.readings.get(index=0), slow.readings.get(index=0)
    assert second.effort == "slow"
    assert second.seconds > 2 * first.seconds
    noise = [analysis_of(p, equipped).readings.covariance[0, 1, 1] ** 0.5 for p in (quick, slow)]
    assert noise[1] < 0.75 * noise[0]


def test_an_effort_that_the_meter_does_not_have_stops_the_pass_in_words(equipped, person, now):
    equipped.effort = "in a hurry"
    equipped.save()
    done = run(equipped, person, now)
    assert done.state == "paused"
    assert "no such effort" in done.reason


def test_surround_window_range_and_rate_are_sent(equipped, person, now, bench):
    equipped.surround, equipped.window, equipped.signal_range, equipped.frame_rate = 40.0, 25.0, "full", None
    equipped.save()
    run(equipped, person, now, purpose=PassPurpose.CHECK, patches=None, how=How())
    picture = bench.world.picture
    assert picture.window == 25
    assert picture.surround == (102, 102, 102)
    assert bench.world.signal.range == "full"


def test_the_form_keeps_what_is_right_and_says_what_is_not(equipped, signed_in):
    address = reverse("act", args=(equipped.pk, "measure"))
    signed_in.post(address, form_of(equipped, effort="slow", low_below="0.5", window="18"))
    equipped.refresh_from_db()
    assert (equipped.effort, equipped.low_below, equipped.window) == ("slow", 0.5, 18)
    wrong = signed_in.post(address, form_of(equipped, bits=12))
    assert wrong.status_code == 422
    assert "does not send 12 bit" in wrong.content.decode()
    wrong = signed_in.post(address, form_of(equipped, frame_rate="17"))
    assert "sends" in wrong.content.decode()
    colorimeter = Device.objects.get(serial="PC1-2209")
    signed_in.post(address, form_of(equipped, meter=colorimeter.pk, effort="no such"))
    equipped.refresh_from_db()
    assert (equipped.meter, equipped.effort) == (colorimeter, "")


def test_as_usual_sets_what_suits_the_technology(equipped, signed_in):
    equipped.display.technology = "projector"
    equipped.display.save()
    signed_in.post(reverse("act", args=(equipped.pk, "usual")), {"stop": "instruments"})
    equipped.refresh_from_db()
    assert (equipped.window, equipped.settle_s, equipped.low_average) == (100, 1.0, 8)


def tried(equipped, signed_in):
    signed_in.post(reverse("act", args=(equipped.pk, "try")), {"stop": "instruments"})
    pass_ = Pass.objects.filter(purpose=PassPurpose.TRY).latest("id")
    engine.run(pass_.pk)
    return signed_in.get(reverse("stop", args=(equipped.pk, "instruments"))).content.decode()


def test_the_chain_is_tried_and_told_in_words(equipped, signed_in, bench):
    assert "the meter sees what the source shows" in tried(equipped, signed_in)
    bench.sources[0].fault.start("stuck")
    try:
        assert "the picture does not change" in tried(equipped, signed_in)
    finally:
        bench.sources[0].fault.start("")


def test_a_meter_is_aimed_by_what_it_reads(equipped, signed_in, person, bench):
    address, page = (
        reverse(name, args=(equipped.pk, last)) for name, last in (("act", "aim"), ("stop", "instruments"))
    )
    bench.world.aim["TS2-0031"] = (0.06, 0.0)
    signed_in.post(address, {"stop": "instruments"})
    pass_ = Pass.objects.get(purpose=PassPurpose.AIM)
    assert (pass_.window, pass_.repeat, pass_.effort) == (2.0, True, "quick")
    thread = threading.Thread(target=engine.run, args=(pass_.pk,))
    thread.start()
    try:
        wait_for(pass_, 6)
        bench.world.aim.clear()
        wait_for(pass_, pass_.readings.count() + 6)
        # It reads most here so far, but nobody knows yet what it reads beside this place.
        assert "it is aimed" not in signed_in.get(f"{page}?view=aim").content.decode()
        bench.world.aim["TS2-0031"] = (0.06, 0.0)
        wait_for(pass_, pass_.readings.count() + 8)
        assert "move it a little" in signed_in.get(f"{page}?view=aim").content.decode()
        bench.world.aim.clear()
        wait_for(pass_, pass_.readings.count() + 8)
        assert "of the best so far: it is aimed" in signed_in.get(f"{page}?view=aim").content.decode()
    finally:
        bench.world.aim.clear()
        signed_in.post(address, {"stop": "instruments"})
        thread.join(90)
    pass_.refresh_from_db()
    assert not pass_.is_open


def wait_for(pass_, count):
    end = time.monotonic() + 90
    while pass_.readings.count() < count:
        assert time.monotonic() < end
        time.sleep(0.02)


def test_a_device_is_found_by_its_own_address(person, bench, now):
    meter = bench.meters[0]
    found = take_up(actor=person, address=f"127.0.0.1:{meter.port}", now=now)
    assert [d.serial for d in found.devices] == ["PC1-2209"]
    assert found.devices[0].directory_port is None
    with_directory = take_up(actor=person, address=bench.address, now=now)
    assert next(d for d in with_directory.devices if d.serial == "PC1-2209").directory_port


@pytest.mark.parametrize(
    ("serial", "says"),
    [("PC1-2209", "cd/m²"), ("BP1-1180", "white window"), ("SW65-0112", "cube, curves, matrix, panel, tone")],
)
def test_each_device_is_tried_out_by_itself(equipped, now, serial, says):
    device = Device.objects.get(serial=serial)
    told = try_out(device=device, now=now)
    assert told["right"], told
    assert says in told["says"]


def test_a_device_that_is_gone_says_so_and_where_it_was_looked_for(equipped, signed_in, now):
    device = Device.objects.get(serial="PC1-2209")
    device.directory_host, device.directory_port, device.port = "", None, 9
    device.save()
    page = signed_in.post(reverse("device-act", args=(device.pk, "try")), follow=True).content.decode()
    assert "cannot be reached at 127.0.0.1:9" in page
    assert "did not answer" in signed_in.get(reverse("instruments")).content.decode()


def test_a_device_in_use_is_not_disturbed(equipped, person, signed_in, now, bench):
    services.start_pass(tuning_id=equipped.pk, actor=person, now=now)
    page = signed_in.post(reverse("device-act", args=(equipped.meter_id, "try")), follow=True).content.decode()
    assert "is using it" in page


def test_removed_it_is_not_offered_and_found_again_it_is_back(equipped, person, signed_in, bench, now):
    device = Device.objects.get(serial="MM-0954")
    signed_in.post(reverse("device-act", args=(device.pk, "remove")))
    assert "Minnow M</a>" not in signed_in.get(reverse("instruments")).content.decode()
    take_up(actor=person, address=bench.address, now=now)
    device.refresh_from_db()
    assert device.removed_at is None


def test_an_owner_says_which_networks_may_be_reached(person, signed_in, stranger, client, bench):
    with pytest.raises(AddressError, match="outside the networks"):
        check_address(person.firm, "192.168.7.20")
    address = reverse("networks")
    person.role = Role.CALIBRATOR
    person.save()
    assert signed_in.get(address).status_code == 403
    person.role = Role.OWNER
    person.save()
    nowhere = ("barn", "0.0.0.0/0", "0.0.0.0/1", "169.254.0.0/16", "fe80::/10", "8.8.8.0/24", "10.0.0.0/7")
    for wrong in nowhere:
        answer = signed_in.post(address, {"networks": f"192.168.7.0/24 {wrong}"})
        assert answer.status_code == 422
        assert f"{wrong} is no private network" in answer.content.decode()
    person.firm.networks = ["0.0.0.0/1", "169.254.0.0/16"]  # allowed before it was known that they may not be
    for host in ("8.8.8.8", "169.254.169.254"):
        with pytest.raises(AddressError, match="outside the networks"):
            check_address(person.firm, host)
    signed_in.post(address, {"networks": "127.0.0.0/8\n192.168.7.20/24"})
    person.firm.refresh_from_db()
    assert person.firm.networks == ["127.0.0.0/8", "192.168.7.0/24"]
    assert check_address(person.firm, "192.168.7.20") == "192.168.7.20"
    with pytest.raises(AddressError):
        check_address(stranger.firm, "192.168.7.20")


def test_another_firm_sees_no_device(equipped, client, stranger):
    client.force_login(stranger, backend="django.contrib.auth.backends.ModelBackend")
    assert client.get(reverse("device", args=(equipped.meter_id,))).status_code == 404
    assert client.post(reverse("device-act", args=(equipped.meter_id, "remove"))).status_code == 404
    assert client.post(reverse("act", args=(equipped.pk, "try"))).status_code == 404


@pytest.mark.parametrize("part", ["devices", "aim", "correction"])
def test_every_part_of_the_stop_opens_with_and_without_instruments(part, equipped, signed_in):
    page = f"{reverse('stop', args=(equipped.pk, 'instruments'))}?view={part}"
    assert signed_in.get(page).status_code == 200
    equipped.meter = equipped.source = None
    equipped.save()
    assert signed_in.get(page).status_code == 200


def test_a_display_is_paired_from_its_own_page(equipped, signed_in, bench):
    from fenvik.web.devices.models import Pairing

    device = Device.objects.get(serial="OF55-0417")
    address = reverse("device-act", args=(device.pk, "show-code"))
    assert "whose display this is" in signed_in.post(address, follow=True).content.decode()
    equipped.display.serial = "OF55-0417"
    equipped.display.save()
    assert "type it here" in signed_in.post(address, follow=True).content.decode()
    pair = reverse("device-act", args=(device.pk, "pair"))
    assert "not the code on the screen" in signed_in.post(pair, {"code": "wrong"}, follow=True).content.decode()
    signed_in.post(address)
    page = signed_in.post(pair, {"code": bench.displays[0].shown_code}, follow=True).content.decode()
    assert "is paired" in page
    assert Pairing.objects.filter(device=device).exists()


def test_spectra_are_read_drawn_and_offered_as_whites(signed_in, equipped, bench):
    def shown():
        return signed_in.get(reverse("stop", args=(equipped.pk, "instruments")) + "?view=spectra").content.decode()

    assert "Read white, red, green, blue" in shown()
    answer = signed_in.post(reverse("act", args=(equipped.pk, "spectra")), {"stop": "instruments", "view": "spectra"})
    assert answer.status_code == 302
    page = shown()
    assert page.count('class="spectrum ') == 4
    assert "CIE 2015 10°" in page
    told = {"stop": "instruments", "kind": "client", "why": "CIE 2015 10°", "offer": "1", "offset": "0.00123 -0.00456"}
    assert 'name="offset"' in page
    signed_in.post(reverse("act", args=(equipped.pk, "white-part")), told)
    equipped.refresh_from_db()
    assert equipped.whites[0].du == 0.00123


def test_a_meter_without_spectra_says_so_and_dark_readings_wait_for_the_cap(signed_in, equipped, bench, person):
    quick = equipped.meter.__class__.objects.of_firm(person.firm_id).filter(facts__kind="colorimeter").first()
    equipped.meter = quick
    equipped.save()
    answer = signed_in.post(reverse("act", args=(equipped.pk, "spectra")), {"stop": "instruments", "view": "spectra"})
    assert "Choose a meter that gives spectra" in signed_in.get(answer["Location"]).content.decode()
    signed_in.post(reverse("act", args=(equipped.pk, "read-dark")), {"stop": "instruments"})
    pass_ = Pass.objects.get(purpose=PassPurpose.TRY)
    engine.run(pass_.pk)
    pass_.refresh_from_db()
    assert pass_.reason.startswith("Put the cap on the meter")
    services.resume(pass_id=pass_.pk, actor=person)
    engine.run(pass_.pk)
    pass_.refresh_from_db()
    assert pass_.summary["dark"]["count"] == 8
    page = signed_in.get(reverse("stop", args=(equipped.pk, "instruments"))).content.decode()
    assert pass_.summary["dark"]["says"][:20] in page


def test_of_a_library_of_charts_those_that_are_asked_for_are_kept(person, bench, now, signed_in):
    source = bench.sources[0]
    told = source.facts
    source.facts = lambda: told() | {"charts": [*(f"chart {i}" for i in range(3000)), *told()["charts"]]}
    found = take_up(actor=person, address=bench.address, now=now)
    kept = next(device for device in found.devices if device.serial == source.serial)
    assert kept.facts["charts"] == told()["charts"]
    assert f"<td>{3000 + len(told()['charts'])}</td>" in signed_in.get(reverse("device", args=(kept.pk,))).content.decode()


def test_two_of_one_name_are_told_apart_and_what_a_person_calls_one_stays(person, bench, now, signed_in):
    first, second = bench.meters[0], bench.meters[1]
    second.maker, second.model = first.maker, first.model
    names = {d.serial: d.name for d in take_up(actor=person, address=bench.address, now=now).devices}
    assert names[second.serial] == f"{names[first.serial]} {second.serial}"
    meter = Device.objects.get(serial=second.serial)
    signed_in.post(reverse("device-act", args=(meter.pk, "rename")), {"name": "the old one"})
    again = {d.serial: d.name for d in take_up(actor=person, address=bench.address, now=now).devices}
    assert again == names | {second.serial: "the old one"}
