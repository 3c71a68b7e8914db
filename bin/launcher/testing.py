"""What `./fenvik test` runs: the linters, and the tests on a PostgreSQL of their own."""

import os
import secrets
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

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
# Tests that compute and wait for nothing: they run beside the linters. The others have the machine for themselves, two at a time,
# file by file: each of the two has a database, a browser and a running system of its own, which its files share. Three at a time
# are a quarter quicker, and hasty: one of four runs failed by it.
COMPUTED = ("tests/core", "tests/charts", "tests/formats", "tests/handsfree")
# In the order of tests/conftest.py: no file after one that opened a browser, but those that do.
SIDE_BY_SIDE = ("-n", "2", "--dist", "loadfile", "--no-loadscope-reorder")
TWO_AT_A_TIME = ("-n", "2", "--dist", "worksteal")
SLOWEST = "--durations=20"


def run_tests(arguments: list[str]) -> int:
    """Run the tests named, or linters and all tests; return an exit status."""
    postgres = Postgres("test", throwaway=True)
    postgres.start()
    environment = {"DATABASE_URL": postgres.url, "FENVIK_SECRET_KEY": secrets.token_urlsafe(48)}
    os.chdir(ROOT)
    try:
        if arguments:
            failed = _pytest(arguments, environment)
        else:
            single = environment | {"OPENBLAS_NUM_THREADS": "1"}  # neither is to take the other's core
            with ThreadPoolExecutor(2) as beside:
                running = beside.submit(_check, environment), beside.submit(_pytest, [*TWO_AT_A_TIME, *COMPUTED], single)
            failed = [name for one in running for name in one.result()]
            others = ["tests", *(f"--ignore={path}" for path in COMPUTED)]
            failed += _pytest([*SIDE_BY_SIDE, SLOWEST, *others], environment)
    finally:
        postgres.stop()
    if failed:
        say(f"failed: {', '.join(failed)}")
        return 1
    return 0


def _check(environment: dict[str, str]) -> list[str]:
    """Run the linters; return the names of those that failed."""
    failed = []
    for name, command in CHECKS:
        say(f"checking: {name}")
        # In earnest it stands behind TLS; what is checked is that.
        strict = environment | {"FENVIK_TLS": "1"}
        if run_python(*command, environment=strict, quiet=name == "deploy") != 0:
            failed.append(name)
    return failed


def _pytest(arguments: Sequence[str], environment: dict[str, str]) -> list[str]:
    """Run tests; return a name for them where one failed."""
    status = run_python("-m", "pytest", *arguments, environment=environment)
    return [] if status == 0 else [f"pytest {' '.join(a for a in arguments if a.startswith('tests'))}"]
