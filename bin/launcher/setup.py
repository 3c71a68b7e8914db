"""What a fresh machine lacks: Debian packages, a virtual environment, pinned requirements."""

import hashlib
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import IO

ROOT = Path(__file__).resolve().parents[2]
VENV = ROOT / ".venv"
PYTHON = VENV / "bin" / "python"
STATE = ROOT / ".fenvik"
# Debian's Chromium without the windows and menus around a page, which the tests do not look at: a fifth of what a page costs.
BROWSER = "chromium-headless-shell"
CLUSTER_SETTING = Path("/etc/postgresql-common/createcluster.d/fenvik.conf")


class SetupError(Exception):
    """The machine lacks something that may not be installed from here."""


def say(text: str) -> None:
    """Tell the person what is going on; standard output stays free for what a command prints."""
    print(f"fenvik: {text}", file=sys.stderr, flush=True)


def postgres_bin() -> Path | None:
    """Return the folder of the newest PostgreSQL server on this machine."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda p: int(p.parts[-3]))
    return found[-1].parent if found else None


def missing_packages(*, browser: bool) -> list[str]:
    """Return the Debian packages that are not there yet."""
    missing = []
    if postgres_bin() is None:
        missing.append("postgresql")
    try:
        import ensurepip  # noqa: F401
        import venv  # noqa: F401
    except ImportError:
        missing.append("python3-venv")
    if browser and shutil.which(BROWSER) is None:
        missing.append(BROWSER)
    return missing


def install_packages(*, browser: bool) -> None:
    """Install what is missing with apt, or say exactly what to install. Raises SetupError."""
    missing = missing_packages(browser=browser)
    if not missing:
        return
    wanted = f"apt-get install {' '.join(missing)}"
    if os.geteuid() != 0 or shutil.which("apt-get") is None:
        raise SetupError(f"this machine lacks {', '.join(missing)}. As root: {wanted}")
    say(f"installing {', '.join(missing)}")
    environment = os.environ | {"DEBIAN_FRONTEND": "noninteractive"}
    _quiet(["apt-get", "update"], environment)
    if "postgresql" in missing:
        # Fenvik starts a server of its own; the package must not make and start another one.
        _quiet(["apt-get", "install", "-y", "--no-install-recommends", "postgresql-common"], environment)
        CLUSTER_SETTING.parent.mkdir(parents=True, exist_ok=True)
        CLUSTER_SETTING.write_text("create_main_cluster = false\n", encoding="utf-8")
    _quiet(["apt-get", "install", "-y", "--no-install-recommends", *missing], environment)
    left = missing_packages(browser=browser)
    if left:
        raise SetupError(f"{', '.join(left)} could not be installed. As root: {wanted}")


def _quiet(command: list[str], environment: dict[str, str] | None = None) -> None:
    result = subprocess.run(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    if result.returncode != 0:
        tail = "\n".join(result.stdout.splitlines()[-12:])
        raise SetupError(f"`{' '.join(command)}` failed:\n{tail}")


def make_venv(requirements: str) -> None:
    """Make .venv with a requirements file's pins, unless it has them already. Raises SetupError."""
    wanted = ROOT / "requirements" / f"{requirements}.txt"
    mark = hashlib.sha256(wanted.read_bytes()).hexdigest()
    marks = VENV / "fenvik-requirements"
    have = marks.read_text(encoding="utf-8").split() if marks.exists() and PYTHON.exists() else []
    # The tests' file holds all that the application's does.
    full = hashlib.sha256((ROOT / "requirements" / "dev.txt").read_bytes()).hexdigest()
    if mark in have or full in have:
        return
    if sys.version_info[:2] < (3, 11):
        raise SetupError("Python 3.11 or newer is needed")
    say("installing the pinned Python packages into .venv")
    if not PYTHON.exists():
        _quiet([sys.executable, "-m", "venv", str(VENV)])
    # Python compiles what it imports when it does: much of this it never will, and that is two fifths of the time.
    pip = [str(PYTHON), "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-compile"]
    _quiet([*pip, "--require-hashes", "-r", str(wanted)])
    marks.write_text("\n".join([*have, mark]), encoding="utf-8")


def run_python(
    *arguments: str, environment: dict[str, str] | None = None, quiet: bool = False, into: IO[str] | None = None, nice: int = 0
) -> int:
    """Run a Python program of the environment; return its exit status. ``into``: where its output goes; ``nice``: it gives way."""
    return subprocess.run(
        ["nice", "-n", str(nice), str(PYTHON), *arguments],
        env=os.environ | {"PYTHONPATH": str(ROOT / "src")} | (environment or {}),
        stdout=subprocess.DEVNULL if quiet else into,
    ).returncode
