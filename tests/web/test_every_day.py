"""Every day: names that tell apart, numbers with a comma, words and help, the way to a first reading."""

from datetime import timedelta

import pytest
from django.urls import reverse
from django.utils import timezone

from fenvik.web.clients.models import Display
from fenvik.web.controls.services import note_found
from fenvik.web.demo.build import factory_sheet
from fenvik.web.handovers.beside import handed
from fenvik.web.handovers.services import make_handover
from fenvik.web.handovers.views import tuning_page
from fenvik.web.kit.words import WORDS
from fenvik.web.trail.facts import STOPS
from fenvik.web.visits.models import Tuning, Visit
from tests.web.adjustable import adjustable

NEW = {
    "picture_mode": "Film", "purpose": "night", "target_name": "bt709-bt1886", "tolerance": "1", "technology": "lcd",
    "menu": "later",
}  # fmt: skip
KEYED_METER = {"role": "meter", "km-name": "My meter", "km-kind": "colorimeter", "km-floor": "0,01", "km-order": "Yxy"}


def page(client, name, *keys, **query):
    return " ".join(client.get(reverse(name, args=keys), query).content.decode().split())


def test_two_tunings_that_would_be_called_alike_get_model_and_mode(tuning, signed_in):
    room = tuning.display.room
    add = reverse("visit", args=(tuning.visit_id,))
    for model, mode in (("K1", "Film"), ("K2", "Cinema"), ("K3", "Film")):
        signed_in.post(add, NEW | {"room": room.name, "maker": "Orrefall", "model": model, "purpose": "game", "picture_mode": mode})
    names = set(Tuning.objects.filter(purpose="game").values_list("name", flat=True))
    assert names == {f"{room.name}, game · K1 Film", f"{room.name}, game · K2 Cinema", f"{room.name}, game · K3 Film"}


def test_a_visit_that_is_to_come_is_not_the_last_one(tuning, signed_in, person):
    visit, today = tuning.visit, timezone.localdate()
    later = Visit.objects.create(firm=person.firm, client=visit.client, on=today + timedelta(days=9), calibrator=person)
    Tuning.objects.create(visit=later, display=tuning.display, name="later", picture_mode="Film")
    Visit.objects.create(firm=person.firm, client=visit.client, on=today + timedelta(days=2), cancelled_at=timezone.now())
    was, comes = (f"{day.day} {day:%B %Y}" for day in (visit.on, later.on))
    assert f'<td class="num">{was}</td> <td class="num">{comes}</td>' in page(signed_in, "clients")
    assert f"last on {was}, next on {comes}</td>" in page(signed_in, "room", tuning.display.room_id)


def test_a_comma_is_a_decimal_sign_in_every_form_of_numbers(tuning, signed_in):
    add = reverse("visit", args=(tuning.visit_id,))
    signed_in.post(add, NEW | {"display": tuning.display_id, "purpose": "day", "luminance": "180,5", "tolerance": "0,8"})
    made = Tuning.objects.get(purpose="day")
    assert (made.luminance, made.tolerance) == (180.5, 0.8)
    room = reverse("room", args=(tuning.display.room_id,))
    assert signed_in.post(room, {"name": tuning.display.room.name, "lux_night": "2,5"}).status_code == 302
    tuning.display.room.refresh_from_db()
    assert tuning.display.room.lux_night == 2.5
    free = {
        "name": "x", "picture_mode": "Film", "purpose": "night", "signal": "sdr", "target_name": "free", "tolerance": "1",
        "primaries": "bt709", "curve": "power", "gamma": "2,3", "white": "0,3105 0,3285",
    }  # fmt: skip
    signed_in.post(reverse("act", args=(tuning.pk, "keep-target")), free | {"stop": "arrival"})
    tuning.refresh_from_db()
    assert tuning.free["white"] == [0.3105, 0.3285]
    assert tuning.free["gamma"] == 2.3


def test_a_mode_that_is_typed_in_a_row_without_a_mark_is_asked_about(tuning, signed_in):
    address = reverse("proposals", args=(tuning.visit_id, tuning.display_id))
    empty = signed_in.get(address).context["rows"]
    typed = {row["form"].add_prefix(name): row["form"].initial.get(name) or "" for row in empty for name in row["form"].fields}
    typed = {name: value for name, value in typed.items() if not name.endswith("take")}
    first, second = (row["form"] for row in empty[:2])
    typed[first.add_prefix("picture_mode")] = "Film"
    typed |= {second.add_prefix("take"): "on", second.add_prefix("picture_mode"): "Bright"}
    answer = signed_in.post(address, typed)
    assert "this row is not marked" in answer.content.decode()
    assert not Tuning.objects.filter(picture_mode="Bright").exists()


@pytest.mark.parametrize(
    ("words", "seen"),
    [("Duv", "above (green)"), ("energy saving", "Energy saving"), ("BT.2020", "BT.2020, PQ, D65"), ("near black", "Near black")],
)
def test_words_checks_targets_and_lists_are_found(words, seen, tuning, signed_in):
    assert seen in page(signed_in, "find", q=words)


def test_instruments_are_found(equipped, signed_in):
    assert equipped.meter.name in page(signed_in, "find", q=equipped.meter.serial)


def test_every_stop_has_help_and_every_word_its_sentence(tuning, signed_in):
    for stop, name in STOPS.items():
        shown = page(signed_in, "help", stop)
        assert f"<h1>{name}</h1>" in shown
        assert "What you do" in shown
        assert reverse("help", args=(stop,)) in page(signed_in, "stop", tuning.pk, stop)
    assert signed_in.get(reverse("help", args=("nowhere",))).status_code == 404
    shown = page(signed_in, "words")
    assert all(f"<dt>{word}</dt>" in shown.replace("&#x27;", "'") for word in WORDS)
    assert all(sentence.endswith(".") for sentence in WORDS.values())


@pytest.mark.parametrize(("pages", "serial", "link"), [
    ("http://127.0.0.1:1/", "OF55 0417", "http://127.0.0.1:1/display/OF55%200417"), ("http://127.0.0.1:1", "", "http://127.0.0.1:1"),
    ("", "OF55-0417", ""),
])  # fmt: skip
def test_a_stand_in_is_a_step_away_and_nothing_is_in_earnest(tuning, signed_in, settings, pages, serial, link):
    Display.objects.filter(pk=tuning.display_id).update(serial=serial)
    settings.STANDIN_PAGES = pages
    shown = page(signed_in, "stop", tuning.pk, "groundwork")
    assert f'<a href="{link}" target' in shown if link else "A stand-in" not in shown


def test_an_empty_firm_is_led_to_its_first_reading_by_what_is_missing_next(person, signed_in, settings):
    settings.STANDIN_PAGES = ""
    steps = []

    def following():
        shown = page(signed_in, "visits")
        part = shown.split('<li class="next">')[1].split("</li>")[0]
        steps.append(part.split(">")[1].split("<")[0].strip())
        return part.split('href="')[1].split('"')[0]

    instruments = following()
    assert instruments == reverse("instruments")
    signed_in.post(instruments, KEYED_METER)
    signed_in.post(instruments, {"role": "source", "ks-name": "My disc", "ks-range": "limited"})
    signed_in.post(following(), {"new_client": "First house", "on": "2026-12-01"})
    signed_in.post(following(), NEW | {"room": "Den", "maker": "Orrefall", "model": "55"})
    assert Display.objects.get().model == "55"
    assert following() == reverse("stop", args=(Tuning.objects.get().pk, "found")), "its only meter and source are chosen"
    assert steps == ["Say what you measure with", "Plan a visit", "Add a tuning", "Read it as found"]
    assert Visit.objects.get().client.name == "First house"


def test_more_than_two_passes_stand_beside_each_other_with_what_stood_otherwise(finished, signed_in):
    found, left = (finished.passes.filter(purpose=p).first() for p in ("found", "left"))
    adjusted = finished.passes.exclude(pk__in=(found.pk, left.pk)).filter(summary__isnull=False).first()
    chosen = [p.pk for p in (found, left, adjusted) if p is not None]
    shown = page(signed_in, "compare", finished.pk, c=chosen)
    assert f"{len(chosen)} passes beside each other" in shown
    assert "What stood otherwise" in shown
    turned = finished.changes.exclude(undone_by__isnull=False).filter(undoes=None).last()
    assert turned.label in shown.split("What stood otherwise")[1].split("History")[0]
    two = page(signed_in, "compare", finished.pk)
    assert "beside each other</h2>" not in two
    assert turned.label in two.split("What stood otherwise")[1].split("History")[0]


def test_which_modes_share_a_setting_is_found_by_turning_and_looking(person, bench, now, signed_in):
    tuning = adjustable(person, bench, now, index=0, mode="Film")
    menu = bench.displays[0].menu
    for mode in menu.values:
        menu.values[mode]["pic-1"] = 34
    before = {mode: dict(values) for mode, values in menu.values.items()}
    light = next(item for item in menu.items.values() if item.role == "light")
    object.__setattr__(light, "shared", True)
    try:
        signed_in.post(reverse("act", args=(tuning.pk, "find-shared")), {"stop": "arrival", "view": "menu"})
    finally:
        object.__setattr__(light, "shared", False)
    tuning.display.refresh_from_db()
    found = tuning.display.shared["controls"]
    assert found[light.id] == ["Shop", "Film HDR"]
    assert [] in found.values()
    assert {mode: dict(values) for mode, values in menu.values.items()} == before
    shown = page(signed_in, "stop", tuning.pk, "arrival", view="menu")
    assert "Turned in Film, turned in Shop, Film HDR too: Contrast." in shown
    assert "Film has values of its own for" in shown


@pytest.mark.parametrize(
    ("index", "mode", "name", "told", "never"),
    [
        (0, "Film", "m2", "Input 1 and Input 2 keep apart: Contrast", "They share"),
        (4, "Theatre", "l2", "They share: Lamp", "keep apart"),
    ],
)
def test_which_settings_inputs_keep_apart_is_read_at_each(person, bench, now, signed_in, index, mode, name, told, never):
    """The LCD keeps its settings for each input; the projector's are the same at all of them."""
    tuning, display = adjustable(person, bench, now, index=index, mode=mode), bench.displays[index]
    display.set_control(name, "pic-1", 61)

    def look(watched):
        display.choose_input(watched)
        signed_in.post(reverse("act", args=(tuning.pk, "look-at-input")), {"stop": "arrival", "view": "menu"})
        return page(signed_in, "stop", tuning.pk, "arrival", view="menu")

    assert "Settings read at Input 1. Switch to another input" in look("Input 1")
    shown = look("Input 2")
    assert told in shown
    assert never not in shown
    assert "nothing is told of them" in shown


def test_questions_that_were_kept_open_are_shown_at_the_next_visit_and_a_projector_s_screen_is_reckoned(tuning, signed_in):
    display = tuning.display
    display.questions, display.technology, display.size_in = "Ask the maker about mode 3", "projector", 100
    display.save()
    assert "Ask the maker about mode 3" in page(signed_in, "visit", tuning.visit_id)
    shown = page(signed_in, "stop", tuning.pk, "arrival", view="display")
    assert "2.21 m wide, 2.8 m², gain 1, taken for a white matt screen" in shown
    assert "foot-lamberts and need" in shown


def test_the_colour_map_is_shown_in_x_y_by_a_key(finished, signed_in):
    shown = page(signed_in, "stop", finished.pk, "left", view="colours")
    assert 'data-key="x"' in shown
    other = page(signed_in, "stop", finished.pk, "left", view="colours-xy")
    assert "Colours in xy, and greys" in other
    assert "in u′v′" in other


def test_lists_are_kept_and_counted_as_they_are_ticked(signed_in, equipped):
    def counted(*names):
        return signed_in.post(reverse("act", args=(equipped.pk, "tick-lists")), {"stop": "found", "chosen": names}).json()["words"]

    assert counted("grey-21").startswith("21 patches as chosen, about ")
    assert counted("grey-21", "grey-11").startswith("21 patches")  # shared ones are read once
    assert counted().startswith("0 patches")
    assert counted("grey-11").startswith("11 patches")
    equipped.refresh_from_db()
    assert equipped.lists["chosen"] == ["grey-11"]


def test_the_modes_of_a_display_stand_beside_each_other_at_the_desk_and_for_the_client(finished, person, signed_in, now):
    other = Tuning.objects.create(
        visit=finished.visit, display=finished.display, name="Snug, HDR", picture_mode="Film HDR", signal="hdr10",
        target_name="bt2020-pq",
    )  # fmt: skip
    shown = page(signed_in, "beside", finished.display_id)
    assert "Film HDR" in shown
    assert "not measured yet" in shown
    assert "grey, average" in shown
    assert reverse("beside", args=(finished.display_id,)) in page(signed_in, "display", finished.display_id)
    note_found(tuning_id=other.pk, actor=person, typed=factory_sheet() | {"pic-1": "90"}, now=now)
    assert "What stands otherwise" in page(signed_in, "beside", finished.display_id)
    handover = make_handover(visit_id=finished.visit_id, actor=person, now=now)
    kept = tuning_page(handover.content["tunings"][0])
    (table,) = handed([kept, kept | {"mode": "Film HDR"}])
    assert [row.name for row in table["rows"]][:3] == ["signal", "target", "brightest white, cd/m²"]
    assert all(len(row.cells) == 2 for row in table["rows"])
    assert handed([kept]) == []
