"""What `./fenvik test` runs: the linters, and the tests on a PostgreSQL of their own."""

import os
import secrets
import tempfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import IO

from launcher.postgres import Postgres
from launcher.setup import ROOT, run_python, say

CHECKS = [
    ("ruff", ["-m", "ruff", "check", "--quiet", "--no-cache", "src", "tests", "bench", "bin"]),
    ("mypy", ["-m", "mypy", "--no-error-summary"]),
    ("imports", ["-c", "from importlinter.cli import lint_imports_command as c; c()", "--no-cache"]),
    ("djlint", ["-m", "djlint", "--quiet", "--lint", "src/fenvik/web"]),
    ("migrations", ["-m", "fenvik.cli", "manage", "makemigrations", "--check", "--dry-run", "--verbosity", "0"]),
    ("deploy", ["-m", "fenvik.cli", "manage", "check", "--deploy", "--fail-level", "WARNING"]),
]
# Tests that compute and wait for nothing: they and the linters take what the others leave of the machine, which wait half of their
# time. Those run three at a time, file by file: each has a database, a browser and a running system, which its files share.
COMPUTED = ("tests/core", "tests/charts", "tests/formats", "tests/handsfree")
# In the order of tests/conftest.py: no file after one that opened a browser, but those that do.
SIDE_BY_SIDE = ("-n", "3", "--dist", "loadfile", "--no-loadscope-reorder")
TWO_AT_A_TIME = ("-n", "2", "--dist", "worksteal")
SLOWEST = "--durations=20"
GIVES_WAY = 10
# A hundred processes are started: what each is compiled to is kept for the next, whatever is usual here.
KEPT = {"PYTHONDONTWRITEBYTECODE": ""}


def run_tests(arguments: list[str]) -> int:
    """Run the tests named, or linters and all tests; return an exit status."""
    postgres = Postgres("test", throwaway=True)
    postgres.start()
    environment = {"DATABASE_URL": postgres.url, "FENVIK_SECRET_KEY": secrets.token_urlsafe(48), **KEPT}
    os.chdir(ROOT)
    try:
        failed = _pytest(arguments, environment) if arguments else _all(postgres, environment)
    finally:
        postgres.stop()
    if failed:
        say(f"failed: {', '.join(failed)}")
        return 1
    return 0


def _all(postgres: Postgres, environment: dict[str, str]) -> list[str]:
    """Run linters and all tests; return the names of what failed."""
    single = environment | {"OPENBLAS_NUM_THREADS": "1"}  # none is to take the other's core
    others = ["tests", *(f"--ignore={path}" for path in COMPUTED)]
    with tempfile.TemporaryFile("w+") as heard, ThreadPoolExecutor(2) as beside:
        checks = beside.submit(_check, environment)
        computed = beside.submit(_pytest, [*TWO_AT_A_TIME, *COMPUTED], single, into=heard, nice=GIVES_WAY)
        # A hundred migrations take a quarter of a minute: they are run once, and each database of a test is a copy of that one.
        template = postgres.make_anew("template")
        migrate = ("-m", "fenvik.cli", "manage", "migrate", "--verbosity", "0")
        failed = [] if run_python(*migrate, environment=environment | {"DATABASE_URL": template}) == 0 else ["migrate"]
        if not failed:
            failed = _pytest([*SIDE_BY_SIDE, SLOWEST, *others], single | {"TEST_DATABASE_TEMPLATE": template})
        failed += computed.result() + checks.result()
        heard.seek(0)
        print(heard.read(), flush=True)
    return failed


def _check(environment: dict[str, str]) -> list[str]:
    """Run the linters; return the names of those that failed."""
    failed = []
    for name, command in CHECKS:
        say(f"checking: {name}")
        # In earnest it stands behind TLS; what is checked is that.
        strict = environment | {"FENVIK_TLS": "1"}
        if run_python(*command, environment=strict, quiet=name == "deploy", nice=GIVES_WAY) != 0:
            failed.append(name)
    return failed


def _pytest(arguments: Sequence[str], environment: dict[str, str], *, into: IO[str] | None = None, nice: int = 0) -> list[str]:
    """Run tests; return a name for them where one failed. ``into``: where it is said what they do; ``nice``: how they give way."""
    status = run_python("-m", "pytest", *arguments, environment=environment, into=into, nice=nice)
    return [] if status == 0 else [f"pytest {' '.join(a for a in arguments if a.startswith('tests'))}"]
