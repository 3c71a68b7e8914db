"""How long files of readings take to be taken up: 20,000 and 100,000 rows, and 16 MB of newlines. `./fenvik bench imports`."""

import time

from common import a_tuning, say, set_up


def main() -> None:
    set_up()
    from django.utils import timezone

    from fenvik.formats.readings import ReadingsError, read
    from fenvik.standins.bench import make_bench
    from fenvik.web.demo.build import served
    from fenvik.web.results.files import take_up

    with served(make_bench(haste=float("inf"))) as address:
        tuning, person = a_tuning(address)
        for count in (20_000, 100_000):
            level = [(i % 876) + 64 for i in range(count)]
            rows = [f"{c},{c},{c},10,limited,{c / 10},{c / 9},{c / 8}" for c in level]
            data = "\n".join(["r,g,b,bits,range,X,Y,Z", *rows]).encode()
            began = time.perf_counter()
            take_up(tuning_id=tuning.pk, actor=person, data=data, purpose="found", name="a file", now=timezone.now())
            say(f"a file of {count:,} readings is taken up in", time.perf_counter() - began, "s", "100,000 below 30 is wanted")
    began = time.perf_counter()
    try:
        read(b"\n" * (16 << 20))
    except ReadingsError:
        say("16 MB of newlines are refused in", time.perf_counter() - began, "s", "below 1 is wanted")


if __name__ == "__main__":
    main()
