"""Several processes side by side: started together, one that dies is replaced, all end together.

A process manager from a library ends all when one dies; here a killed worker must be replaced and the pass go on.
"""

import ctypes
import os
import signal
import subprocess
import sys
import threading
import time
from dataclasses import dataclass, field
from typing import TextIO

PR_SET_PDEATHSIG = 1
QUICK_DEATH_S = 3.0
MOST_QUICK_DEATHS = 5


def _die_with_parent() -> None:
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGTERM)


@dataclass
class Part:
    """One process of the application."""

    name: str
    command: list[str]
    environment: dict[str, str]
    process: subprocess.Popen[str] | None = None
    started: float = 0.0
    quick_deaths: int = 0
    lines: list[str] = field(default_factory=list)


class Processes:
    """Runs parts until told to stop."""

    def __init__(self, log: TextIO) -> None:
        self.parts: list[Part] = []
        self.log = log
        self.stopping = threading.Event()
        self.failed = ""

    def start(self, name: str, command: list[str], environment: dict[str, str]) -> Part:
        """Start a part and keep it running."""
        part = Part(name, command, environment)
        self.parts.append(part)
        # The thread that starts a process must outlive it: the kernel takes its end for the parent's death.
        threading.Thread(target=self._keep, args=(part,), daemon=True).start()
        return part

    def _launch(self, part: Part) -> subprocess.Popen[str]:
        part.started = time.monotonic()
        part.process = subprocess.Popen(
            part.command,
            env=os.environ | part.environment,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            start_new_session=True,  # Ctrl-C reaches the launcher alone, which ends them in order
            preexec_fn=_die_with_parent if sys.platform == "linux" else None,
        )
        return part.process

    def _keep(self, part: Part) -> None:
        while not self.stopping.is_set():
            process = self._launch(part)
            assert process.stdout is not None
            with process.stdout:
                for line in process.stdout:
                    part.lines.append(line.rstrip("\n"))
                    del part.lines[:-200]
                    self.log.write(f"{part.name} | {line}")
                    self.log.flush()
            process.wait()
            quick = time.monotonic() - part.started < QUICK_DEATH_S
            part.quick_deaths = part.quick_deaths + 1 if quick else 0
            if part.quick_deaths >= MOST_QUICK_DEATHS and not self.stopping.is_set():
                self.failed = part.name
                self.stopping.set()

    def wait_line(self, part: Part, start: str, timeout_s: float) -> str:
        """Return the rest of the first line of a part that begins so; an empty text when none came in time."""
        end = time.monotonic() + timeout_s
        while time.monotonic() < end and not self.stopping.is_set():
            for line in list(part.lines):
                if line.startswith(start):
                    return line[len(start) :].strip()
            time.sleep(0.05)
        return ""

    def stop(self) -> None:
        """End every part: gently, then not."""
        self.stopping.set()
        alive = [part.process for part in reversed(self.parts) if part.process and part.process.poll() is None]
        for process in alive:
            process.terminate()
        end = time.monotonic() + 8
        for process in alive:
            try:
                process.wait(max(end - time.monotonic(), 0.1))
            except subprocess.TimeoutExpired:
                process.kill()
