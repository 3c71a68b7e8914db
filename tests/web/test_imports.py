"""Large files of readings: a job of the worker, with progress, that ends when nobody waits for it."""

import datetime as dt

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from fenvik.web.passes.models import ImportState, Pass, Reading, ReadingsImport
from fenvik.web.results import imports

pytestmark = pytest.mark.django_db(transaction=True)
COUNT = 12_000


def readings(count, last=""):
    level = [(i % 876) + 64 for i in range(count)]
    rows = [f"{c},{c},{c},10,limited,{c / 10},{c / 9},{c / 8}" for c in level]
    return "\n".join(["r,g,b,bits,range,X,Y,Z", *rows, *([last] if last else [])]).encode()


@pytest.fixture
def send(signed_in, tuning):
    def send(data):
        sent = {"file": SimpleUploadedFile("big.csv", data), "stop": "found"}
        return signed_in.post(reverse("act", args=(tuning.pk, "readings-file")), sent)

    return send


def page(client, tuning):
    return client.get(reverse("stop", args=(tuning.pk, "found"))).content.decode()


def test_a_large_file_is_a_job_with_progress(send, signed_in, tuning, monkeypatch):
    assert send(readings(COUNT)).status_code == 302
    assert Pass.objects.count() == 0
    assert "being read through" in page(signed_in, tuning)
    assert "is being taken up here already" in signed_in.get(send(readings(COUNT)).url).content.decode()
    seen, real = [], imports.files.take_up

    def take_up(heard, **told):
        def both(stored):
            heard(stored)
            seen.append((stored, Reading.objects.using("default").count(), page(signed_in, tuning).count(f"{stored:,} of about")))

        return real(heard=both, **told)

    monkeypatch.setattr(imports.files, "take_up", take_up)
    imports.run(ReadingsImport.objects.get().pk)
    assert [stored for stored, _, _ in seen] == [5000, 10_000, COUNT]
    assert all(said == 1 for _, _, said in seen), "pages say how far it is"
    made = Pass.objects.get()
    assert list(made.readings.order_by("id").values_list("index", flat=True)) == list(range(COUNT))
    assert f"{COUNT:,} readings of big.csv are kept" in page(signed_in, tuning)
    assert bytes(ReadingsImport.objects.get().data) == b""
    imports.run(ReadingsImport.objects.get().pk)
    assert Pass.objects.count() == 1, "what has ended is not done again"


@pytest.mark.parametrize("why", ["stopped", "nobody waits", "refused"])
def test_what_is_stopped_refused_or_waited_for_by_nobody_leaves_nothing(send, signed_in, tuning, now, why):
    send(readings(COUNT, "1,2,3,10,limited,1,x,1" if why == "refused" else ""))
    one = ReadingsImport.objects.get()
    if why == "stopped":
        signed_in.post(reverse("act", args=(tuning.pk, "stop-import")), {"stop": "found"})
    elif why == "nobody waits":
        ReadingsImport.objects.update(seen_at=now - imports.NOBODY - dt.timedelta(seconds=1))
    imports.run(one.pk)
    one.refresh_from_db()
    assert one.state == (ImportState.REFUSED if why == "refused" else ImportState.STOPPED)
    assert (Pass.objects.count(), Reading.objects.count()) == (0, 0)
    said = page(signed_in, tuning)
    assert ("line 12002, column Y" if why == "refused" else "nothing of it stays") in said
    signed_in.post(reverse("act", args=(tuning.pk, "stop-import")), {"stop": "found"})
    assert not ReadingsImport.objects.exists()


def test_an_import_that_a_crash_left_behind_is_found(send):
    send(readings(COUNT))
    from procrastinate.contrib.django.models import ProcrastinateJob

    assert imports.without_a_job() == []
    with imports.connections["default"].cursor() as cursor:
        cursor.execute("DELETE FROM procrastinate_jobs")
    assert ProcrastinateJob.objects.count() == 0
    assert imports.without_a_job() == [ReadingsImport.objects.get().pk]


def test_millions_of_lines_are_refused_as_bytes(send, tuning, signed_in):
    send(b"\n" * (16 << 20))
    imports.run(ReadingsImport.objects.get().pk)
    assert "more than 1,000,000 lines" in page(signed_in, tuning)
