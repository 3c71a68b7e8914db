"""Tunings with what their trails need, kept between requests for as long as the database says that nothing has changed.

A page of visits shows forty trails, and every stop needs one: loading them anew costs most of a page's time. What is kept
is used again only if the versions of all its rows are the same, which one statement tells for any number of tunings.
"""

import copy
import threading
from collections import OrderedDict
from collections.abc import Sequence
from typing import Any

import psycopg
from django.db import connection
from django.db.models import Count, Max

from fenvik.web.trail.facts import with_lists, with_trails
from fenvik.web.visits.models import Tuning

MOST = {True: 60, False: 600}
# Transaction and place of a row change with every update of it, so those of all rows together are the version of what is
# made of them.
VERSIONS = """
SELECT t.id, v.firm_id, concat_ws(
    '/', t.xmin, t.ctid, ai.xmin, ai.ctid, mi.xmin, mi.ctid,
    v.xmin, v.ctid, c.xmin, c.ctid, d.xmin, d.ctid, r.xmin, r.ctid, m.xmin, m.ctid,
    me.xmin, me.ctid, co.xmin, co.ctid, so.xmin, so.ctid, pa.xmin, pa.ctid,
    (SELECT string_agg(concat_ws(':', p.xmin, p.ctid, re.xmin, re.ctid), ',' ORDER BY p.id) FROM passes_pass p
        LEFT JOIN devices_device re ON re.id = p.reference_id WHERE p.tuning_id = t.id),
    li.xmin, li.ctid,
    (SELECT count(*) || ':' || max(s.id) FROM menus_settingssheet s WHERE s.tuning_id = t.id AND s.put_away_at IS NULL),
    (SELECT count(*) || ':' || max(k.id) FROM adjusting_controlchange k WHERE k.tuning_id = t.id),
    (SELECT count(*) || ':' || max(a.id) FROM groundwork_checkanswer a WHERE a.tuning_id = t.id),
    (SELECT string_agg(h.xmin || ':' || h.ctid, ',' ORDER BY h.id) FROM handovers_handover h WHERE h.visit_id = t.visit_id)
), (SELECT max(x.id) FROM passes_pass p JOIN passes_reading x ON x.pass_id = p.id
    WHERE p.tuning_id = t.id AND p.finished_at IS NULL)
FROM visits_tuning t
JOIN visits_aim ai ON ai.id = t.aim_id
JOIN visits_measuring mi ON mi.id = t.measuring_id
JOIN visits_visit v ON v.id = t.visit_id
JOIN clients_client c ON c.id = v.client_id
JOIN clients_display d ON d.id = t.display_id
JOIN clients_room r ON r.id = d.room_id
LEFT JOIN menus_menumap m ON m.id = d.menu_map_id
LEFT JOIN devices_device me ON me.id = mi.meter_id
LEFT JOIN corrections_correction co ON co.id = mi.correction_id
LEFT JOIN devices_device so ON so.id = mi.source_id
LEFT JOIN devices_device li ON li.id = d.link_id
LEFT JOIN devices_pairing pa ON pa.device_id = d.link_id
WHERE t.id = ANY(%s) AND t.put_away_at IS NULL
"""
Version = tuple[str, int]  # of everything but the readings of an open pass, and the newest of those
_kept: dict[bool, OrderedDict[int, tuple[Version, Any]]] = {True: OrderedDict(), False: OrderedDict()}
_lock = threading.Lock()


def versions(firm_id: int, pks: Sequence[int]) -> dict[int, Version]:
    """Return the version of each tuning that a firm has."""
    connection.ensure_connection()
    # Planning this statement takes ten times as long as running it, so the server keeps its plan from the first time on.
    with psycopg.Cursor(connection.connection) as cursor:
        cursor.execute(VERSIONS, [list(pks)], prepare=True)
        return {pk: (version, newest or 0) for pk, owner, version, newest in cursor.fetchall() if owner == firm_id}


def tunings(firm_id: int, pks: Sequence[int], *, whole: bool = False) -> list[Any]:
    """Return tunings of a firm as ``with_trails`` loads them, in the order of their ids, each with passes of the caller's own."""
    now = versions(firm_id, pks)
    store = _kept[whole]
    found: dict[int, Any] = {}
    behind: dict[int, Any] = {}
    with _lock:
        for pk, version in now.items():
            if pk in store and store[pk][0][0] == version[0]:
                (found if store[pk][0] == version else behind)[pk] = store[pk][1]
                store.move_to_end(pk)
    lacking = [pk for pk in now if pk not in found and pk not in behind]
    for pk, tuning in behind.items():
        found[pk] = _read_on(tuning)
    if lacking:
        # The version was read before the rows: should they change in between, the next look loads them again.
        for tuning in with_trails(Tuning.objects.filter(pk__in=lacking), whole=whole):
            found[tuning.pk] = with_lists(tuning) if whole else tuning
    if lacking or behind:
        with _lock:
            for pk in (*lacking, *behind):
                if pk in found:
                    store[pk] = (now[pk], found[pk])
            while len(store) > MOST[whole]:
                store.popitem(last=False)
    # Lists of many only read; a stop also sets what its own person needs.
    return [_own(found[pk], now[pk]) if whole else found[pk] for pk in sorted(found)]


def _own(tuning: Any, version: Version) -> Any:
    """Return a copy for one caller: what another thread does to its own is not seen here."""
    copied = copy.copy(tuning)
    copied.version = version
    copied.main_passes = [copy.copy(pass_) for pass_ in tuning.main_passes]
    return copied


def _read_on(tuning: Any) -> Any:
    """Return a tuning as kept, with how far its open pass has come: while one runs, that is all that changes with each reading."""
    copied = copy.copy(tuning)
    copied.main_passes = [copy.copy(pass_) if pass_.is_open else pass_ for pass_ in tuning.main_passes]
    for pass_ in copied.main_passes:
        if pass_.is_open:
            told = pass_.readings.aggregate(read=Count("index", distinct=True), newest=Max("id"))
            pass_.read, pass_.last_reading = told["read"], told["newest"]
    return copied


def clear() -> None:
    """Forget everything: for tests, whose databases begin anew."""
    with _lock:
        for store in _kept.values():
            store.clear()
