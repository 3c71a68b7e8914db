"""The white of a tuning: parts with their sources, one aim for everything after it."""

import threading

import numpy as np
import pytest
from django.db import connection, connections, transaction
from django.urls import reverse

from fenvik.core.colour.space import D65_XY, xy_to_uv
from fenvik.web.handovers.services import make_handover
from fenvik.web.planning.whites import add_part
from fenvik.web.visits.models import Tuning, WhiteCandidate
from fenvik.web.visits.white import WhitePart, aim_of, chain
from tests.web.served import until

pytestmark = pytest.mark.django_db(transaction=True)


def act(client, tuning, act_name, **data):
    answer = client.post(reverse("act", args=(tuning.pk, act_name)), {"stop": "arrival", **data}, follow=True)
    return " ".join(answer.content.decode().split())


def again(tuning):
    return Tuning.objects.get(pk=tuning.pk)


def test_parts_add_up_in_u_v_and_a_shift_is_taken_out():
    parts = [WhitePart("display", 0.0012, -0.0031, "looks like the lounge"), WhitePart("shift", -0.0041, 0.0098, "")]
    aim = aim_of(D65_XY, parts)
    np.testing.assert_allclose(xy_to_uv(aim) - xy_to_uv(D65_XY), [0.0012 + 0.0041, -0.0031 - 0.0098], atol=1e-9)
    words = chain(D65_XY, parts)
    assert words[0] == "D65"
    assert words[1] == "looks like the lounge (+0.0012, −0.0031)"
    assert words[2] == "the mode’s shift taken out (+0.0041, −0.0098)"
    assert words[3] == f"aim {aim[0]:.4f}, {aim[1]:.4f}"
    assert aim_of(D65_XY, []) == D65_XY


def test_a_part_is_typed_as_an_offset_or_as_two_whites_and_everything_follows_it(finished, signed_in, person, now):
    before = finished.passes.filter(purpose="left").first().summary["grey_mean"]
    shown = act(signed_in, finished, "white-part", kind="client", offset="-0,0020 -0,0040", why="warmer, as at home")
    assert "warmer, as at home (−0.0020, −0.0040)" in shown
    tuning = again(finished)
    np.testing.assert_allclose(xy_to_uv(tuning.target.white_xy) - xy_to_uv(D65_XY), [-0.002, -0.004], atol=1e-9)
    assert "white 0.30" in tuning.target_label
    assert tuning.passes.filter(purpose="left").first().summary["grey_mean"] > before + 1.0
    ends = {"from": "0.3127 0.3290", "to": "0,3105 0,3285"}
    act(signed_in, finished, "white-part", kind="display", why="like the lounge", **ends)
    assert [p.kind for p in again(finished).whites] == ["client", "display"]
    measured = np.array([again(finished).whites[1].du, again(finished).whites[1].dv])
    np.testing.assert_allclose(measured, xy_to_uv((0.3105, 0.3285)) - xy_to_uv(D65_XY), atol=1e-5)
    handed = make_handover(visit_id=tuning.visit_id, actor=person, now=now)
    page = " ".join(signed_in.get(reverse("handover", args=(handed.token,))).content.decode().split())
    assert "Its white: D65 → warmer, as at home" in page
    act(signed_in, finished, "drop-white-part", kind="client")
    act(signed_in, finished, "drop-white-part", kind="display")
    assert again(finished).target.white_xy == D65_XY
    assert again(finished).passes.filter(purpose="left").first().summary["grey_mean"] == pytest.approx(before)


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ({"offset": "0.5 0.1"}, "no offset of a white"), ({"offset": "0.001"}, "two numbers of u′v′"), ({}, "Type an offset"),
        ({"offset": "a b"}, "is no number"), ({"from": "0.3 0.3"}, "two whites x y"),
        ({"from": "3 3", "to": "0.3 0.3"}, "two numbers, x and y"),
        ({"offset": "0.001 0.001", "from": "0.3 0.3", "to": "0.31 0.31"}, "which of them counts"),
        ({"kind": "moon", "offset": "0.001 0.001"}, "A part of a white is"),
    ],
)  # fmt: skip
def test_what_is_no_part_of_a_white_is_said(typed, says, tuning, signed_in):
    assert says in act(signed_in, tuning, "white-part", **{"kind": "client", **typed})
    assert again(tuning).white_parts == []


def test_a_white_that_is_offered_again_is_chosen_from_the_firm_s_list(tuning, signed_in):
    act(signed_in, tuning, "white-part", kind="client", offset="0.001 -0.002", why="OLED as seen", offer="1")
    kept = WhiteCandidate.objects.get()
    assert (kept.name, kept.du, kept.dv) == ("OLED as seen", 0.001, -0.002)
    act(signed_in, tuning, "drop-white-part", kind="client")
    act(signed_in, tuning, "white-part", kind="client", candidate=str(kept.pk))
    assert again(tuning).whites[0].why == "OLED as seen"
    act(signed_in, tuning, "drop-white", candidate=str(kept.pk))
    assert not WhiteCandidate.objects.exists()
    assert again(tuning).whites[0].why == "OLED as seen"


def test_who_waits_for_a_tuning_sees_what_another_has_changed_of_its_aim_meanwhile(equipped, person, now):
    def add(kind):
        add_part(tuning_id=equipped.pk, actor=person, kind=kind, uv=(0.001, 0.002), why=kind, now=now)

    def other():
        try:
            add("display")
        finally:
            connections.close_all()

    def somebody_waits():
        with connection.cursor() as cursor:
            cursor.execute("SELECT count(*) FROM pg_locks WHERE NOT granted")
            return cursor.fetchone()[0] > 0

    thread = threading.Thread(target=other)
    with transaction.atomic():
        add("client")
        thread.start()
        until(somebody_waits)
    thread.join(20)
    assert {part.kind for part in again(equipped).whites} == {"client", "display"}
