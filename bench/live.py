"""Many browsers that watch a pass: pages for everybody else, and how soon a committed reading is told. `./fenvik bench live [BROWSERS]`.

The browsers are connections that read the live pages of one tuning at five stops, on the default settings; 8 and 50 unless told.
"""

import asyncio
import os
import re
import sys
import time
import urllib.request

from common import a_tuning, p95, say, set_up, web_and_worker
from django.conf import settings

STOPS = ("found", "adjust", "left", "handover", "groundwork")
PAGES = ("/visits/", "/clients/", "/instruments/")


async def watch(port, path, cookie, heard):
    """Read a live page until cancelled; note when each reading is first in what comes."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port, limit=1 << 24)
    writer.write(f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nCookie: {cookie}\r\n\r\n".encode())
    seen = set()
    try:
        while line := await reader.readline():
            if b"data-reading" not in line:
                continue
            for number in re.findall(rb'data-reading=\\"(\d+)\\"', line):
                if number not in seen:
                    seen.add(number)
                    heard.append((int(number), time.time()))
    finally:
        writer.close()


async def look(port, cookie, times, running):
    """Open pages one after the other; note how long each took."""
    loop, at = asyncio.get_running_loop(), 0

    def page(path):
        request = urllib.request.Request(f"http://127.0.0.1:{port}{path}", headers={"Cookie": cookie})
        began = time.perf_counter()
        with urllib.request.urlopen(request, timeout=30) as answer:
            answer.read()
        times.append(time.perf_counter() - began)

    while running.is_set():
        await loop.run_in_executor(None, page, PAGES[at % len(PAGES)])
        at += 1
        await asyncio.sleep(0.1)


async def measure(port, cookie, tuning_id, browsers, start):
    heard, times, running = [], [], asyncio.Event()
    running.set()
    paths = [f"/tunings/{tuning_id}/{STOPS[i % len(STOPS)]}/live/" for i in range(browsers)]
    watching = [asyncio.create_task(watch(port, path, cookie, heard)) for path in paths]
    await asyncio.sleep(3)
    heard.clear()
    looking = asyncio.create_task(look(port, cookie, times, running))
    await asyncio.get_running_loop().run_in_executor(None, start)
    running.clear()
    await looking
    for task in watching:
        task.cancel()
    await asyncio.gather(*watching, return_exceptions=True)
    return heard, times


def main() -> None:
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
    set_up()
    from django.test import Client
    from django.utils import timezone

    from fenvik.standins.bench import make_bench
    from fenvik.web.demo.build import served
    from fenvik.web.passes.models import Pass, PassPurpose, Reading
    from fenvik.web.passes.services import start_pass

    port, parts = web_and_worker()
    try:
        with served(make_bench(haste=30)) as address:
            tuning, person = a_tuning(address)
            tuning.settle_s = 0.25
            tuning.save()
            client = Client()
            client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
            cookie = f"{settings.SESSION_COOKIE_NAME}={client.cookies[settings.SESSION_COOKIE_NAME].value}"
            time.sleep(6)

            def start():
                for purpose in (PassPurpose.FOUND, PassPurpose.LEFT):
                    start_pass(tuning_id=tuning.pk, actor=person, now=timezone.now(), purpose=purpose)
                    while Pass.objects.filter(tuning=tuning, finished_at=None).exists():
                        time.sleep(0.1)
                time.sleep(1.0)

            for browsers in [int(word) for word in sys.argv[1:]] or [8, 50]:
                heard, times = asyncio.run(measure(port, cookie, tuning.pk, browsers, start))
                at = dict(Reading.objects.filter(pass_of__tuning=tuning).values_list("pk", "at"))
                delays = [when - at[number].timestamp() for number, when in heard if number in at]
                say(f"{browsers} browsers: pages, p95 of {len(times)}", 1000 * p95(times), "ms", "below 200 is wanted")
                say(f"{browsers} browsers: commit to told, median of {len(delays)}", 1000 * sorted(delays)[len(delays) // 2], "ms")
                say(f"{browsers} browsers: commit to told, p95", 1000 * p95(delays), "ms")
    finally:
        for part in parts:
            part.terminate()


if __name__ == "__main__":
    main()
