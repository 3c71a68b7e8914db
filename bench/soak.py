"""What web, worker and stand-ins weigh after mixed use: pages, charts, patterns and passes. `./fenvik bench soak [REQUESTS]`.

Printed is each process's resident memory after a tenth of the requests and readings, and at the end: flat is what is wanted.
"""

import http.cookiejar
import os
import re
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.parse
import urllib.request
from pathlib import Path

from common import ROOT, a_tuning, say, set_up

LISTS = ["grey-21", "colours-100", "saturations", "near-black", "windows"]
VIEWS = ("balance", "tone", "colours", "errors", "light", "wrong", "lists")
PATTERNS = ("black-level", "ramp-grey", "circles", "checkerboard", "sharpness")


def weight(process) -> float:
    """Resident memory in MB."""
    told = Path(f"/proc/{process.pid}/status").read_text(encoding="utf-8")
    return int(re.search(r"VmRSS:\s+(\d+)", told).group(1)) / 1024


def main() -> None:
    set_up()
    from django.utils import timezone

    from fenvik.web.passes.models import Pass, PassPurpose, Reading
    from fenvik.web.passes.services import start_pass

    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
    environment = os.environ | {"PYTHONPATH": str(ROOT / "src"), "PYTHONUNBUFFERED": "1"}

    def begin(*command):
        line = [sys.executable, "-m", "fenvik.cli", *command]
        return subprocess.Popen(line, env=environment, stdout=subprocess.PIPE, text=True)

    parts = {"stand-ins": begin("standins", "--haste", "100000", "--port", "0", "--web-port", "0")}
    address = ""
    while not address:
        line = parts["stand-ins"].stdout.readline()
        address = line.removeprefix("directory ").strip() if line.startswith("directory ") else ""
    parts |= {"web": begin("web", "--port", str(port)), "worker": begin("worker")}
    try:
        tuning, person = a_tuning(address)
        tuning.lists = {"chosen": LISTS}
        tuning.save()
        person.set_password("quiet water")
        person.save()
        base = f"http://127.0.0.1:{port}"
        browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
        _sign_in(browser, base, person.username)
        count, reads, early = 0, 0, {}
        addresses = [f"/tunings/{tuning.pk}/{stop}/?view={view}" for stop in ("found", "left") for view in VIEWS]
        addresses += [f"/tunings/{tuning.pk}/{stop}/" for stop in ("arrival", "groundwork", "instruments", "adjust")]
        addresses += [f"/patterns/{name}/{how}.png" for name in PATTERNS for how in ("low", "right", "high")]
        addresses += [f"/tunings/{tuning.pk}/compare/", "/visits/", "/find/?q=snug"]
        while count < wanted or reads < wanted:
            if not Pass.objects.filter(tuning=tuning, finished_at=None).exists() and reads < wanted:
                purpose = PassPurpose.FOUND if count % 2 else PassPurpose.LEFT
                start_pass(tuning_id=tuning.pk, actor=person, now=timezone.now(), purpose=purpose)
            try:
                browser.open(base + addresses[count % len(addresses)], timeout=30).read()
            except urllib.error.HTTPError as problem:
                if problem.code >= 500:
                    raise
            count += 1
            reads = Reading.objects.filter(pass_of__tuning=tuning).count()
            if not early and count > wanted / 10 and reads > wanted / 10:
                early = {name: weight(process) for name, process in parts.items()}
        for name, process in parts.items():
            say(f"{name}: MB after a tenth", early.get(name, 0.0), "MB")
            say(f"{name}: MB after {count} requests and {reads} readings", weight(process), "MB", "within 10 % of it is wanted")
    finally:
        for process in parts.values():
            process.terminate()


def _sign_in(browser, base, name) -> None:
    for _ in range(60):
        try:
            page = browser.open(f"{base}/sign-in/", timeout=5).read().decode()
            break
        except urllib.error.URLError:
            time.sleep(0.5)
    token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page).group(1)
    form = {"csrfmiddlewaretoken": token, "username": name, "password": "quiet water"}
    request = urllib.request.Request(f"{base}/sign-in/", urllib.parse.urlencode(form).encode(), {"Referer": f"{base}/sign-in/"})
    browser.open(request, timeout=10)


if __name__ == "__main__":
    main()
