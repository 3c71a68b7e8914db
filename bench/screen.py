"""From a committed reading to the changed picture on the screen, with a pass running and four browsers watching."""

import time

from common import a_tuning, p95, say, set_up, web_and_worker

BROWSERS = 4
CHROMIUM = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update"]
WATCH = """
() => {
  window.seen = {};
  const look = () => {
    const row = document.querySelector('#hand [data-reading]');
    if (row && !(row.dataset.reading in window.seen)) window.seen[row.dataset.reading] = performance.timeOrigin + performance.now();
  };
  new MutationObserver(() => requestAnimationFrame(look)).observe(document.body, { childList: true, subtree: true });
}
"""


def main() -> None:
    import os

    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
    set_up()
    from django.utils import timezone
    from playwright.sync_api import sync_playwright

    from fenvik.standins.bench import make_bench
    from fenvik.web.demo.build import served
    from fenvik.web.passes.models import Pass, PassPurpose, Reading
    from fenvik.web.passes.services import start_pass

    port, parts = web_and_worker()
    try:
        with served(make_bench(haste=30)) as address, sync_playwright() as playwright:
            tuning, person = a_tuning(address)
            tuning.settle_s = 0.25
            tuning.save()
            person.set_password("quiet water")
            person.save()
            time.sleep(5)
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=CHROMIUM)
            pages = []
            for _ in range(BROWSERS):
                page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
                page.goto(f"http://127.0.0.1:{port}/sign-in/")
                page.fill("#id_username", person.username)
                page.fill("#id_password", "quiet water")
                page.press("#id_password", "Enter")
                page.wait_for_url("**/visits/")
                page.goto(f"http://127.0.0.1:{port}/tunings/{tuning.pk}/found/")
                page.evaluate(WATCH)
                pages.append(page)
            for _ in range(2):
                start_pass(tuning_id=tuning.pk, actor=person, now=timezone.now(), purpose=PassPurpose.FOUND)
                while Pass.objects.filter(tuning=tuning, finished_at=None).exists():
                    time.sleep(0.2)
            time.sleep(0.5)
            committed = {
                str(pk): at.timestamp() * 1000
                for pk, at in Reading.objects.filter(pass_of__tuning=tuning).values_list("pk", "at")
            }
            delays = []
            for page in pages:
                seen = page.evaluate("() => window.seen")
                delays += [seen[pk] - at for pk, at in committed.items() if pk in seen]
            say(f"readings seen, of {len(committed) * BROWSERS}", len(delays))
            say("commit to screen, four browsers, median", sorted(delays)[len(delays) // 2], "ms")
            say("commit to screen, four browsers, p95", p95(delays), "ms", "below 100 is wanted")
            browser.close()
    finally:
        for part in parts:
            part.terminate()


if __name__ == "__main__":
    main()
