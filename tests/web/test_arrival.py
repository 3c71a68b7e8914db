"""Arrival: sheets, menu maps, places, proposals, finding; bad input gets one sentence and loses nothing."""

import json

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from fenvik.web.clients.models import Client, Display, Feed, Room
from fenvik.web.controls.blocks import BlockError, block, joined, levels_of
from fenvik.web.controls.maps import read_over_link
from fenvik.web.controls.models import ControlChange, MenuMap, Moment, SettingsSheet
from fenvik.web.controls.services import OtherModelError, SheetError, SheetMovedError, copy_sheet, note_found
from fenvik.web.devices.models import Device, Pairing
from fenvik.web.planning.services import keep_target, usual_bits
from fenvik.web.visits.models import Tuning, Visit

pytestmark = pytest.mark.django_db


def act(client, tuning, name_of_act, /, **data):
    return client.post(reverse("act", args=(tuning.pk, name_of_act)), {"stop": "arrival", **data})


def arrival(client, tuning, query=""):
    return client.get(reverse("stop", args=(tuning.pk, "arrival")) + query).content.decode()


def noted(tuning, person, now, **values):
    typed = {k.replace("_", "-"): v for k, v in values.items()}
    return note_found(tuning_id=tuning.pk, actor=person, typed=typed, now=now)


def big_map(person, tuning, count=40):
    controls = joined([], block("levels", {"levels": str(count)}))
    tuning.display.menu_map = MenuMap.objects.create(firm=person.firm, maker="M", model="1", controls=controls)
    tuning.display.save()
    return controls


def test_a_sheet_of_120_controls_is_one_request_and_few_queries(
    signed_in, person, tuning, django_assert_max_num_queries
):
    controls = big_map(person, tuning)
    assert len(controls) == 120
    with django_assert_max_num_queries(22):
        body = arrival(signed_in, tuning)
    assert body.count('data-turn="1"') == 120
    assert 'value="0"' in body  # what is usual is filled in
    data = {f"value-{c['id']}": str(i % 50) for i, c in enumerate(controls)} | {"seen": "0"}
    with django_assert_max_num_queries(24):
        answer = act(signed_in, tuning, "note", **data)
    assert answer.status_code == 302
    assert len(SettingsSheet.objects.get().values) == 120


def test_a_wrong_value_names_itself_and_keeps_all_that_was_typed(signed_in, person, tuning):
    data = {"value-pic-1": "900", "value-pic-2": "77", "value-eco-1": "Medium", "seen": "0"}
    answer = act(signed_in, tuning, "note", **data)
    body = answer.content.decode()
    assert answer.status_code == 422
    assert "Contrast goes from 0 to 100; 900 is outside." in body
    assert "Energy care is one of Off, Low, High." in body
    assert 'value="77"' in body
    assert not SettingsSheet.objects.exists()


def test_two_people_in_one_sheet_lose_nothing(signed_in, person, tuning, now):
    from fenvik.web.people.models import User

    other = User.objects.create_user(username="bo", firm=person.firm, first_name="Bo")
    note_found(tuning_id=tuning.pk, actor=other, typed={"pic-1": "11", "pic-2": "90"}, now=now, seen=0)
    answer = act(signed_in, tuning, "note", **{"value-pic-1": "12", "value-pic-2": "90", "seen": "0"})
    body = answer.content.decode()
    assert answer.status_code == 422
    assert "Bo noted these settings at" in body
    assert "1 value differs: Contrast." in body
    assert 'value="12"' in body
    assert SettingsSheet.objects.count() == 1
    seen = SettingsSheet.objects.get().pk
    assert f'name="seen" value="{seen}"' in body  # noting again is meant now
    act(signed_in, tuning, "note", **{"value-pic-1": "12", "value-pic-2": "90", "seen": str(seen)})
    assert [s.values["pic-1"] for s in SettingsSheet.objects.order_by("id")] == [11, 12]


def test_the_same_sheet_sent_twice_is_one(person, tuning, now):
    first = note_found(tuning_id=tuning.pk, actor=person, typed={"pic-1": "11"}, now=now, seen=0)
    assert note_found(tuning_id=tuning.pk, actor=person, typed={"pic-1": "11"}, now=now, seen=0) == first
    with pytest.raises(SheetMovedError):
        note_found(tuning_id=tuning.pk, actor=person, typed={"pic-1": "12"}, now=now, seen=0)


def test_sheets_are_compared_in_the_menus_order_and_walked_back_in_reverse(signed_in, person, tuning, now):
    noted(tuning, person, now, pic_1="34", pic_2="90", pic_3="50", eco_1="Low")
    for i, (name, value) in enumerate((("eco-1", "Off"), ("pic-3", "47"), ("pic-1", "28"))):
        act(signed_in, tuning, "turned", **{f"value-{name}": value, "seen": str(i), "stop": "groundwork"})
    body = arrival(signed_in, tuning, "?view=sheets")
    table = body[body.index('aria-label="Differences"') :]
    assert table.index("Contrast") < table.index("Brightness") < table.index("Energy care")
    hand = body[body.index("3 to turn to stand there again") :]
    assert "<b>Contrast</b>" in hand[:900]  # turned last, turned back first
    answer = act(signed_in, tuning, "turned", **{"value-pic-1": "34", "seen": "3", "view": "sheets"})
    assert answer.status_code == 302
    assert "2 to turn" in arrival(signed_in, tuning, "?view=sheets")


def test_a_sheet_goes_out_as_file_and_paper_and_comes_in_again(signed_in, person, tuning, now):
    sheet = noted(tuning, person, now, pic_1="34", eco_1="Low", eco_2="off")
    as_json = signed_in.get(reverse("sheet-json", args=(sheet.pk,)))
    assert json.loads(as_json.content)["mode"] == "Film"
    assert "attachment" in as_json["Content-Disposition"]
    as_csv = signed_in.get(reverse("sheet-csv", args=(sheet.pk,))).content
    assert b"pic-1,Contrast,Picture,light,34" in as_csv
    paper = signed_in.get(reverse("sheet", args=(sheet.pk,))).content.decode()
    assert "Energy care" in paper
    assert "3 values" in paper
    for name, data in (("a.json", as_json.content), ("a.csv", as_csv)):
        answer = act(signed_in, tuning, "import-sheet", file=SimpleUploadedFile(name, data), moment="noted")
        assert answer.status_code == 302
        newest = SettingsSheet.objects.latest("id")
        assert newest.values == sheet.values
        assert newest.moment == Moment.NOTED


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"control,value\nnobody,5\n", "sheet of another model"),
        (b"control,value\npic-1,500\n", "500 is outside. The file says 500. Line 2, column 2."),
        (b'{"format": "settings-sheet",\n "model": "Z9",\n "settings": [{"control": "pic-1", "value": 5}]}', "a sheet of Z9"),
        (b'{"format": "settings-sheet", "signal": "hdr10", "settings": [{"control": "pic-1", "value": 5}]}', "a sheet for HDR10"),
        (b'{"format": "settings-sheet",\n"settings": [\n{"control": "pic-1", "value": -800}]}', "Line 3, column 2."),
        (b"\x89PNG\x00", "no text"),
        (b"control,value\n", "no settings in it"),
    ],
)
def test_a_file_that_does_not_fit_says_so_once_and_stores_nothing(signed_in, tuning, data, words):
    answer = act(signed_in, tuning, "import-sheet", file=SimpleUploadedFile("x.csv", data))
    body = answer.content.decode() if answer.status_code == 422 else signed_in.get(answer["Location"]).content.decode()
    assert words in body
    assert not SettingsSheet.objects.exists()


def test_a_sheet_is_copied_where_it_fits(person, tuning, now):
    sheet = noted(tuning, person, now, pic_1="34", eco_1="Low")
    other_map = MenuMap.objects.create(
        firm=person.firm,
        maker="X",
        model="Y",
        controls=[
            {
                "id": "bl", "label": "Backlight", "group": "P", "kind": "range", "role": "light", "min": 0, "max": 50,
                "step": 1,
            }
        ],
    )
    room = tuning.display.room
    other = Tuning.objects.create(
        visit=tuning.visit,
        display=Display.objects.create(room=room, maker="X", model="Y", menu_map=other_map),
        name="o",
        picture_mode="A",
    )
    with pytest.raises(OtherModelError):  # the same role in another range: 34 of 100 is not 34 of 50
        copy_sheet(sheet_id=sheet.pk, to_tuning_id=other.pk, actor=person, now=now)
    other_map.controls[0] |= {"max": 100}
    other_map.save()
    made, left_out = copy_sheet(sheet_id=sheet.pk, to_tuning_id=other.pk, actor=person, now=now)
    assert made.values == {"bl": 34}  # by role
    assert len(left_out) == 1
    twin = Tuning.objects.create(visit=tuning.visit, display=tuning.display, name="t", picture_mode="B")
    assert copy_sheet(sheet_id=sheet.pk, to_tuning_id=twin.pk, actor=person, now=now)[0].values == sheet.values


def test_a_twenty_point_balance_is_one_line(signed_in, tuning):
    tuning.display.menu_map = None
    tuning.display.save()
    answer = act(signed_in, tuning, "add-block", block="levels", levels="20", low="-50", high="50", step="1")
    assert answer.status_code == 302
    roles = [c["role"] for c in MenuMap.objects.latest("id").controls]
    assert len(roles) == 60
    assert roles[:3] == ["white.at.5.red", "white.at.5.green", "white.at.5.blue"]
    assert roles[-1] == "white.at.100.blue"


def test_levels_are_a_count_or_a_list():
    assert levels_of("10") == [10, 20, 30, 40, 50, 60, 70, 80, 90, 100]
    assert levels_of("2.5, 5; 10 100 %") == [2.5, 5, 10, 100]
    for wrong in ("", "0", "-5 10", "110", "many"):
        with pytest.raises(BlockError):
            levels_of(wrong)


@pytest.mark.parametrize(
    ("typed", "words"),
    [
        ({"block": "levels", "low": "50", "high": "-50"}, "must be above the lowest"),
        ({"block": "levels", "step": "0"}, "step must be above 0"),
        ({"block": "levels", "low": "few"}, "is a number"),
        ({"block": "single", "label": ""}, "needs the name"),
        ({"block": "single", "label": "X", "role": "magic"}, "is nothing that a control does"),
        ({"block": "single", "label": "X", "options": "Off"}, "two or more"),
        ({"block": "nothing"}, "no such block"),
    ],
)
def test_a_block_that_cannot_be_made_says_why(signed_in, tuning, typed, words):
    before = tuning.display.menu_map.controls
    answer = act(signed_in, tuning, "add-block", view="menu", **typed)
    assert answer.status_code == 422
    assert words in answer.content.decode()
    tuning.display.menu_map.refresh_from_db()
    assert tuning.display.menu_map.controls == before


def map_form(menu):
    data = {"seen": menu.changed_at.isoformat(), "view": "menu"}
    for i, c in enumerate(menu.controls):
        data |= {f"label-{i}": c["label"], f"group-{i}": c["group"], f"role-{i}": c["role"] or ""}
        data |= {
            f"low-{i}": str(c.get("min", "")),
            f"high-{i}": str(c.get("max", "")),
            f"step-{i}": str(c.get("step", "")),
        }
        data |= {f"options-{i}": ", ".join(c.get("options", [])), f"off-{i}": str(c.get("off", ""))}
    return data


def test_a_map_is_changed_as_a_whole_and_two_people_do_not_overwrite_each_other(signed_in, tuning):
    menu = tuning.display.menu_map
    data = map_form(menu)
    data |= {"label-0": "Backlight", "high-0": "50", "drop-1": "1"}
    assert act(signed_in, tuning, "keep-menu", **data).status_code == 302
    menu.refresh_from_db()
    assert (menu.controls[0]["label"], menu.controls[0]["max"]) == ("Backlight", 50)
    assert len(menu.controls) == 21
    answer = act(signed_in, tuning, "keep-menu", **(data | {"label-0": "Mine"}))
    assert answer.status_code == 422
    assert "Somebody has changed this menu map" in answer.content.decode()
    menu.refresh_from_db()
    assert menu.controls[0]["label"] == "Backlight"


def test_two_controls_cannot_have_one_role(signed_in, tuning):
    answer = act(signed_in, tuning, "keep-menu", **(map_form(tuning.display.menu_map) | {"role-1": "light"}))
    assert answer.status_code == 422
    assert "Two controls have the role light" in answer.content.decode()


def test_menu_and_settings_are_read_over_the_link_and_differences_are_logged(signed_in, person, tuning, bench, now):
    from fenvik.web.devices.services import take_up

    take_up(actor=person, address=bench.address, now=now)
    Display.objects.filter(pk=tuning.display_id).update(serial="OF55-0417", menu_map=None)
    answer = act(signed_in, tuning, "read-menu")
    assert "has not been paired yet" in signed_in.get(answer["Location"]).content.decode()
    act(signed_in, tuning, "show-code")
    wrong = act(signed_in, tuning, "pair", code="1")
    assert "That is not the code on the screen. 2 tries are left." in signed_in.get(wrong["Location"]).content.decode()
    act(signed_in, tuning, "pair", code=" 4711 ")
    assert Pairing.objects.count() == 1
    act(signed_in, tuning, "read-menu")
    sheet = SettingsSheet.objects.get()
    assert (sheet.moment, sheet.origin, len(sheet.values)) == ("found", "link", 22)
    bench.displays[0].set_control("m2", "pic-1", 40)
    assert read_over_link(tuning_id=tuning.pk, actor=person, now=now) == (22, 1)
    change = ControlChange.objects.get()
    assert (change.control, change.before, change.after) == ("pic-1", 34, 40)
    assert MenuMap.objects.count() == 1  # the same menu as was known: it is one map
    bench.displays[0]._tokens.clear()  # the pairing is withdrawn at the display
    answer = act(signed_in, tuning, "read-menu")
    assert "no longer knows Fenvik" in signed_in.get(answer["Location"]).content.decode()
    assert not Pairing.objects.exists()


def test_a_mode_that_the_display_does_not_have_is_said_with_those_that_it_has(signed_in, person, tuning, bench, now):
    from fenvik.web.devices.services import take_up

    take_up(actor=person, address=bench.address, now=now)
    Display.objects.filter(pk=tuning.display_id).update(serial="OF55-0417")
    Tuning.objects.update(picture_mode="Theatre")
    act(signed_in, tuning, "show-code")
    act(signed_in, tuning, "pair", code="4711")
    answer = act(signed_in, tuning, "read-menu")
    assert "no mode called Theatre. It has Shop, Film, Film HDR" in signed_in.get(answer["Location"]).content.decode()


def test_display_and_room_are_kept_with_what_feeds_them(signed_in, tuning):
    data = {
        "maker": "Orrefall", "model": "55", "serial": "S1", "technology": "lcd", "size_in": "55", "hours": "100",
        "feeds": "HDMI 1: disc player\nApp films", "room-name": "Snug", "room-lux_day": "60", "room-lux_night": "2.5",
        "view": "display",
    }
    assert act(signed_in, tuning, "keep-place", **data).status_code == 302
    display = Display.objects.get()
    assert (display.size_in, display.room.lux_night) == (55, 2.5)
    assert list(Feed.objects.values_list("through", "what")) == [("HDMI 1", "disc player"), ("App films", "")]
    answer = act(
        signed_in,
        tuning,
        "keep-place",
        **(data | {"feeds": "HDMI 1: a\nhdmi 1: b", "room-lux_day": "-4", "hours": "7"}),
    )
    body = answer.content.decode()
    assert answer.status_code == 422
    assert "hdmi 1 is there twice" in body
    assert 'value="7"' in body
    assert Display.objects.get().hours == 100


FREE = {
    "name": "Snug, night", "picture_mode": "Film", "purpose": "night", "signal": "sdr", "target_name": "free",
    "tolerance": "1.5", "luminance": "90", "primaries": "own", "own": "0.68 0.32 0.265 0.69 0.15 0.06",
    "white": "0.3067 0.318", "curve": "power", "gamma": "2.3", "view": "target",
}


def test_a_free_target_is_what_the_tuning_aims_at(signed_in, tuning):
    assert act(signed_in, tuning, "keep-target", **FREE).status_code == 302
    tuning.refresh_from_db()
    target = tuning.target
    assert (target.gamma, target.tolerance, target.white_xy) == (2.3, 1.5, (0.3067, 0.318))
    assert target.primaries.green == (0.265, 0.69)
    assert "own primaries, gamma 2.3, white 0.3067 0.3180, 90 cd/m²" in tuning.target_label


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"own": "0.6 0.3"}, "six numbers"),
        ({"white": "0.9 0.9"}, "A white is two numbers"),
        ({"gamma": ""}, "needs its gamma"),
        ({"target_name": "bt2020-pq"}, "PQ is the curve of an HDR signal"),
        ({"curve": "hlg"}, "HLG is the curve of an HDR signal"),
        ({"signal": "hdr10", "target_name": "bt709-2.2"}, "HDR10 is made with PQ: choose a target"),
        ({"signal": "dynamic", "target_name": "bt709-bt1886"}, "dynamic metadata is made with PQ"),
        ({"tolerance": "0"}, "greater than or equal to 0.1"),
    ],
)
def test_a_target_that_makes_no_sense_is_refused_and_kept_in_the_form(signed_in, tuning, change, words):
    answer = act(signed_in, tuning, "keep-target", **(FREE | change))
    assert answer.status_code == 422
    assert words in answer.content.decode()
    tuning.refresh_from_db()
    assert tuning.target_name == "bt709-bt1886"


def test_tunings_are_proposed_for_the_room_and_changed_before_they_are_added(signed_in, tuning):
    Room.objects.update(lux_day=200, lux_night=2)
    address = reverse("proposals", args=(tuning.visit_id, tuning.display_id))
    body = signed_in.get(address).content.decode()
    assert "Gamma 2.2, because of 200 lux by day" in body
    data = {}
    for row in ("film-sdr", "night-sdr", "day-sdr", "game-sdr", "film-hdr10", "game-hdr10", "film-dynamic", "day-hlg"):
        data |= {f"{row}-name": row, f"{row}-target_name": "bt709-2.2", f"{row}-tolerance": "1"}
    assert "Nothing was chosen" in signed_in.post(address, data).content.decode()
    data |= {"day-sdr-take": "on", "film-hdr10-take": "on", "film-hdr10-target_name": "bt2020-pq"}
    answer = signed_in.post(address, data)
    assert answer.status_code == 422
    assert "Which picture mode" in answer.content.decode()
    data |= {"day-sdr-picture_mode": "Bright", "film-hdr10-picture_mode": "HDR film", "day-sdr-luminance": "180"}
    assert signed_in.post(address, data).status_code == 302
    made = {t.picture_mode: t for t in Tuning.objects.exclude(pk=tuning.pk)}
    assert (made["Bright"].luminance, made["HDR film"].signal) == (180, "hdr10")
    assert (made["Bright"].bits, made["HDR film"].bits) == (8, 10)
    # Nobody chose the bits: they follow the signal, until something was read.
    told = {name: getattr(made["Bright"], name) for name in ("name", "picture_mode", "purpose", "luminance", "tolerance")}
    aim = told | {"signal": "hdr10", "target_name": "bt2020-pq"}
    assert keep_target(tuning_id=made["Bright"].pk, actor=tuning.visit.calibrator, cleaned=aim).bits == 10
    assert usual_bits("hdr10", Device(facts={"bits": [8]})) == 8


def test_an_hdr_tuning_is_prepared_and_measured_with_its_signal(signed_in, equipped):
    Tuning.objects.update(signal="hdr10", target_name="bt2020-pq")
    for stop in ("arrival", "groundwork", "instruments", "found", "adjust", "left", "handover"):
        assert signed_in.get(reverse("stop", args=(equipped.pk, stop))).status_code == 200
    act(signed_in, equipped, "measure-found")
    started = equipped.passes.get()
    assert started.signal_format == "hdr10"
    assert started.colorimetry == "bt2020"


def test_everything_is_found(signed_in, person, tuning):
    Client.objects.update(address="Shore path", notes="keys in the shed")
    Room.objects.update(surround="green wall")
    Feed.objects.create(display=tuning.display, through="HDMI 2", what="games console")
    Visit.objects.update(notes="bring the ladder")
    for words, wanted in (
        ("shed", "A client"), ("green", "Snug"), ("console", "Orrefall 55"), ("ladder", "A client"), ("film", "Snug, night"),
        ("lively", "Lively contrast"), ("zone plate", "Zone plate"), ("orrefall snug", "Orrefall 55"),
    ):  # fmt: skip
        assert wanted in signed_in.get(reverse("find"), {"q": words}).content.decode(), words
    assert "Nothing here has that in it" in signed_in.get(reverse("find"), {"q": "zzz"}).content.decode()


def test_rooms_and_displays_have_pages_of_their_own(signed_in, person, tuning):
    client = tuning.visit.client
    answer = signed_in.post(reverse("new-room", args=(client.pk,)), {"name": "Attic", "lux_night": "0.5"})
    assert answer.status_code == 302
    again = signed_in.post(reverse("new-room", args=(client.pk,)), {"name": "attic"})
    assert "a room called attic already" in again.content.decode()
    room = Room.objects.get(name="Attic")
    answer = signed_in.post(
        reverse("new-display", args=(room.pk,)),
        {"maker": "L", "model": "4", "technology": "projector", "screen_gain": "1.1", "feeds": ""},
    )
    display = Display.objects.get(model="4")
    assert answer["Location"] == reverse("display", args=(display.pk,))
    assert "1.1" in signed_in.get(reverse("display", args=(display.pk,))).content.decode()
    assert "L 4" in signed_in.get(reverse("room", args=(room.pk,))).content.decode()
    assert "Attic" in signed_in.get(reverse("client", args=(client.pk,))).content.decode()


def test_sheet_values_that_a_map_no_longer_has_do_not_break_a_page(signed_in, person, tuning, now):
    noted(tuning, person, now, pic_1="34")
    tuning.display.menu_map.controls = tuning.display.menu_map.controls[3:]
    tuning.display.menu_map.save()
    assert signed_in.get(reverse("stop", args=(tuning.pk, "arrival"))).status_code == 200


def test_a_sheet_error_keeps_its_facts(person, tuning, now):
    with pytest.raises(SheetError) as caught:
        note_found(tuning_id=tuning.pk, actor=person, typed={"pic-1": "x", "wb-gr": "99"}, now=now)
    assert set(caught.value.problems) == {"pic-1", "wb-gr"}


@pytest.mark.parametrize(
    ("typed", "kept"),
    [
        ({}, (None, 3.0, "As usual for HDR10: no certain luminance of white, tolerance 3.")),
        ({"luminance": "300", "tolerance": "2"}, (300.0, 2.0, "")),
    ],
)
def test_a_target_that_goes_over_to_hdr_does_not_take_the_light_of_sdr_along(signed_in, tuning, typed, kept):
    tuning.luminance = 100.0
    tuning.save()
    fields = {
        "name": tuning.name, "picture_mode": "Film", "purpose": "film", "luminance": "100", "tolerance": f"{tuning.tolerance:g}",
        "signal": "hdr10", "target_name": "bt2020-pq", "roll_off": "clip", "rolled_by": "light", "view": "target",
    }  # fmt: skip
    act(signed_in, tuning, "keep-target", **fields | typed)
    page = arrival(signed_in, tuning, "?view=target")
    tuning.refresh_from_db()
    assert (tuning.signal, tuning.luminance, tuning.tolerance) == ("hdr10", *kept[:2])
    assert ("As usual for" in page, kept[2] in page) == (bool(kept[2]), True)
