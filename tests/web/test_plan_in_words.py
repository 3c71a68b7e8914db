"""A visit planned in words: what is understood, what is refused, and that it is all or nothing."""

import pytest
from django.urls import reverse

from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.planning.wording import WordsError, read
from fenvik.web.visits.models import Tuning, Visit

HOUSE = """Lounge: Skerry W65, OLED
Film, night, 100
Film, day
Film HDR, HDR10

Snug: Orrefall 55, LCD, OF55-0417
Game
Cinema, film, SDR, 48,5
Broadcast HLG
"""


def test_lines_say_what_they_say():
    lounge, snug = read(HOUSE.replace("48,5", "48.5"))
    assert (lounge.room, lounge.maker, lounge.model, lounge.technology, lounge.serial) == ("Lounge", "Skerry", "W65", "oled", "")
    assert (snug.serial, snug.technology) == ("OF55-0417", "lcd")
    assert [(t.mode, t.purpose, t.signal, t.luminance) for t in lounge.tunings + snug.tunings] == [
        ("Film", "night", "sdr", 100.0), ("Film", "day", "sdr", None), ("Film HDR", "film", "hdr10", None),
        ("Game", "game", "sdr", None), ("Cinema", "film", "sdr", 48.5), ("Broadcast HLG", "film", "hlg", None),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("Film, night", "Line 1.*needs its display above"),
        ("Lounge: Skerry W65\nFilm, evening", "Line 2.*what is “evening”"),
        ("Lounge: Skerry W65\nFilm, 4", "white of 4"),
        ("Lounge: Skerry W65\nFilm, HDR10, 100", "HDR10 says itself how bright"),
        ("Lounge: Skerry W65, OLED, LCD", "OLED and LCD: which"),
        ("Lounge: Skerry W65, A1, B2", "what is “B2”"),
        (": Skerry W65", "before the colon"),
        ("Lounge: OLED", "which maker and model"),
        ("L" * 81 + ": Skerry W65", "room has at most 80"),
        ("Lounge: Skerry W65\n, night", "first comes the picture mode"),
        ("x\n" * 200, "at most 120 lines"),
    ],
)
def test_what_cannot_be_understood_is_told_by_its_line(text, words):
    with pytest.raises(WordsError, match=words):
        read(text)


def test_one_form_is_a_client_two_displays_and_six_tunings(db, person, signed_in):
    text = HOUSE.replace("48,5", "48.5")
    facts = {"new_client": "Harbour house", "on": "2026-11-30", "words": text}
    answer = signed_in.post(reverse("new-visit"), facts, follow=True)
    visit = Visit.objects.get(client__name="Harbour house")
    assert answer.redirect_chain == [(reverse("visit", args=(visit.pk,)), 302)]
    made = list(visit.tunings.order_by("pk"))
    assert [t.name for t in made[:3]] == ["Lounge, night", "Lounge, day", "Lounge, film, HDR10"]
    assert [(t.target_name, t.luminance) for t in made][:3] == [("bt709-bt1886", 100.0), ("bt709-2.2", 200.0), ("bt2020-pq", None)]
    assert made[4].luminance == 48.5
    assert Display.objects.count() == 2
    # The next visit names the room alone; what stands there is what is meant.
    facts = {"client": visit.client_id, "on": "2027-11-30", "words": "lounge:\nFilm, night"}
    signed_in.post(reverse("new-visit"), facts)
    assert Visit.objects.exclude(pk=visit.pk).get().tunings.get().display == made[0].display
    assert Display.objects.count() == 2


def test_what_is_refused_leaves_nothing_and_keeps_what_was_typed(db, person, signed_in):
    facts = {"new_client": "Harbour house", "on": "2026-11-30", "words": "Lounge:\nFilm"}
    page = signed_in.post(reverse("new-visit"), facts)
    assert page.status_code == 422
    assert "no display stands in Lounge yet" in page.content.decode()
    assert "Lounge: Film</textarea>" in page.content.decode()
    assert not Visit.objects.exists()
    assert not Client.objects.exists()
    visit = Visit.objects.create(firm=person.firm, client=Client.objects.create(firm=person.firm, name="A"), on="2026-11-30")
    address = reverse("visit", args=(visit.pk,))
    assert signed_in.post(address, {"words": "Den: Mirefield M50\nFilm\nDen: Other\nDen:\nGame"}).status_code == 422
    assert not Tuning.objects.exists()
    assert not Room.objects.exists()
    assert signed_in.post(address, {"words": "Den: Mirefield M50\nFilm"}).status_code == 302
    assert Tuning.objects.get().display.technology == "lcd"
