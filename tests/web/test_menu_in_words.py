"""A menu typed in words, and a mode that is reset."""

import pytest

from fenvik.web.controls.blocks import BlockError
from fenvik.web.controls.models import ControlChange, MenuMap, SettingsSheet
from fenvik.web.controls.roles import WORDS, guess, role_of, words_of
from fenvik.web.controls.wording import merged, read, write

from .test_arrival import act, arrival

TEXT = """Picture
Backlight 0 to 100
Contrast: 0..50
Brightness −10 to +10 step 0,5
Gamma: 1.8, 2.2, BT.1886
Adaptive Contrast: off, low, high
Room sense on/off
Magic 0-5

Balance
Two-point ±50
4 points luminance -20 - 20
Colour system
Six colours hue, saturation ±30
Red: green 0 to 200 by 2
"""


def test_a_whole_menu_is_twelve_lines_in_its_own_order():
    told = read(TEXT)
    assert len(told) == 7 + 6 + 16 + 12 + 1
    assert [(c["label"], c["role"]) for c in told[:7]] == [
        ("Backlight", "light"), ("Contrast", "white-level"), ("Brightness", "black-level"), ("Gamma", "gamma"),
        ("Adaptive Contrast", "process.dynamic-contrast"), ("Room sense", "process.ambient"), ("Magic", None),
    ]  # fmt: skip
    assert (told[2]["min"], told[2]["max"], told[2]["step"], told[2]["default"]) == (-10, 10, 0.5, 0)
    assert (told[0]["default"], told[3]["options"], told[5]["kind"]) == (None, ["1.8", "2.2", "BT.1886"], "switch")
    assert {c["group"] for c in told[7:29]} == {"Balance"}
    assert told[-1]["role"] == "colour.red.mix.green"
    assert [bool(c.get("guessed")) for c in told[5:8]] == [
        True,
        False,
        False,
    ]  # a block says what it is, a name is a guess
    again = read(write(told))
    for one, other in zip(told, again, strict=True):
        assert all(
            one[k] == other[k]
            for k in ("label", "group", "kind", "role")
            if k != "role" or one["role"] == other["role"] or "colour" in str(one["role"])
        )
        assert one.get("min") == other.get("min")
        assert one.get("options") == other.get("options")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("Picture\n", "No line has a range"),
        ("Contrast 50 to 0", "Line 1, “Contrast 50 to 0”"),
        ("Gamma: 2.2", "two or more"),
        ("0 to 5", "needs the name"),
    ],
)
def test_a_line_that_cannot_be_read_is_named(text, words):
    with pytest.raises(BlockError, match=words):
        read(text)


@pytest.mark.parametrize(
    ("label", "group", "role"),
    [
        ("R-Gain", "", "white.gain.red"), ("Green", "Offset", "white.offset.green"), ("B high", "", "white.gain.blue"),
        ("5 % Red", "", "white.at.5.red"), ("Gamma", "35 %", "gamma.at.35"), ("Cyan hue", "", "colour.cyan.hue"),
        ("Tint", "Magenta", "colour.magenta.hue"), ("Colour", "", "saturation"), ("Colour temperature", "", "white-preset"),
        ("Dynamic tone mapping", "", "process.tone-mapping"), ("Laser", "", "light"), ("Logo", "", None),
    ],
)  # fmt: skip
def test_names_speak_for_roles(label, group, role):
    assert guess(label, group) == role


def test_roles_are_said_and_read_in_words():
    assert all(role_of(words) == role and role_of(role) == role for role, words in WORDS.items())
    assert (words_of("white.at.2.5.red"), role_of("Red at 2,5 %")) == ("red at 2.5 %", "white.at.2.5.red")
    assert (role_of("processing: film grain"), words_of("process.film-grain")) == (
        "process.film-grain",
        "processing: film grain",
    )
    assert role_of("magic") is None


def test_a_menu_typed_again_keeps_what_is_known_of_its_controls():
    first = [{**c, "role": "light", "id": "x"} if c["label"] == "Magic" else c for c in read("Magic 0-5\nTint -5-5")]
    again = merged(first, read("Tint -5 to 5\nBacklight 0-9\nMagic 0-7"))
    assert [(c["label"], c["role"]) for c in again] == [("Tint", "tint"), ("Backlight", None), ("Magic", "light")]
    assert (again[2]["id"], again[2]["max"]) == ("x", 7)


def test_a_menu_is_typed_on_the_page_and_what_names_told_is_marked(signed_in, tuning):
    tuning.display.menu_map = None
    tuning.display.save()
    answer = act(signed_in, tuning, "type-menu", words=TEXT, view="menu")
    assert answer.status_code == 302
    menu = MenuMap.objects.latest("id")
    assert [c["group"] for c in menu.controls][:8] == ["Picture"] * 7 + ["Balance"]
    page = signed_in.get(answer["Location"]).content.decode()
    assert "told by the name alone, 7" in page.replace("\n  ", " ")
    assert "panel or lamp light" in page
    data = {"view": "menu", "seen": menu.changed_at.isoformat(), "words": "Backlight 0 to"}
    answer = act(signed_in, tuning, "type-menu", **data)
    assert answer.status_code == 422
    assert "Backlight 0 to" in answer.content.decode()  # what was typed stays
    settings = arrival(signed_in, tuning, "?view=settings")
    assert "go as far down as up are filled in at 0, as a start" in settings


def test_a_block_form_keeps_what_was_chosen(signed_in, tuning):
    answer = act(
        signed_in, tuning, "add-block", view="menu", block="single", label="Logo light", group="Economy", low="0",
        high="3",
    )
    page = signed_in.get(answer["Location"]).content.decode()
    assert '<option value="single" selected>' in page
    assert 'value="Economy"' in page


def test_a_copied_sheet_is_a_start_and_not_what_was_found(signed_in, tuning, person, now):
    SettingsSheet.objects.filter(tuning=tuning).delete()
    SettingsSheet.objects.create(
        tuning=tuning, moment="noted", origin="copy", note="from the film",
        values={tuning.display.menu_map.controls[0]["id"]: 7}, at=now,
    )
    page = arrival(signed_in, tuning, "?view=settings")
    assert "The copy from the film is filled in, as a start" in page
    assert not SettingsSheet.objects.filter(tuning=tuning, moment="found").exists()


def test_a_reset_in_the_menu_is_logged_where_it_is_known_and_its_way_back_kept(signed_in, tuning, person, now):
    menu = tuning.display.menu_map
    first, second = menu.controls[:2]
    for control in menu.controls:
        control.pop("default", None)
    first["default"] = first["min"]
    menu.save()
    SettingsSheet.objects.filter(tuning=tuning).delete()
    assert (
        "Note how it stands first" in signed_in.get(act(signed_in, tuning, "reset-mode")["Location"]).content.decode()
    )
    stood = {first["id"]: first["max"], second["id"]: second["max"]}
    SettingsSheet.objects.create(tuning=tuning, moment="found", origin="typed", values=stood, at=now)
    page = signed_in.get(act(signed_in, tuning, "reset-mode")["Location"]).content.decode()
    assert "1 controls stand otherwise" in page
    assert ControlChange.objects.get(tuning=tuning).after == first["min"]
    assert SettingsSheet.objects.get(tuning=tuning, note="before the reset").values == stood
