"""A PostgreSQL of this checkout's own: on loopback, with a free port and a data folder that no other checkout uses."""

import hashlib
import os
import pwd
import random
import secrets
import shutil
import socket
import subprocess
import threading
import time
from pathlib import Path

from launcher.setup import ROOT, STATE, SetupError, postgres_bin, say

HOST = "127.0.0.1"
OWNER = "postgres"
LOOK_S = 1.0
# For tests only: their data may be lost, and nobody looks at what the server is doing.
SPEED = [
    "fsync=off", "synchronous_commit=off", "full_page_writes=off", "jit=off", "track_activities=off", "update_process_title=off",
]  # fmt: skip


# Below those that the system gives to whoever connects: there a port that is free now may be somebody's the next moment.
PORTS = range(20_000, 32_000)


def free_port() -> int:
    """Return a port that nobody has at this moment."""
    for port in random.sample(PORTS, 50):
        try:
            socket.create_server((HOST, port)).close()
        except OSError:
            continue
        return port
    raise SetupError(f"no port of {PORTS.start} to {PORTS.stop} is free")


class Postgres:
    """One cluster; ``name`` tells the demo's from the tests'."""

    def __init__(self, name: str, *, throwaway: bool = False) -> None:
        self.name, self.throwaway = name, throwaway
        self.as_root = os.geteuid() == 0
        mark = hashlib.sha256(str(ROOT).encode()).hexdigest()[:12]
        # As root the server runs as another user, who may not be able to enter the checkout.
        self.home = Path(f"/var/lib/postgresql/fenvik-{mark}-{name}") if self.as_root else STATE / f"postgres-{name}"
        self.data = self.home / "data"
        self.secret = STATE / f"postgres-{name}.secret"
        self.port_file = STATE / f"postgres-{name}.port"
        folder = postgres_bin()
        if folder is None:
            raise SetupError("PostgreSQL's server is not installed")
        self.bin = folder

    @property
    def url(self) -> str:
        """The database's address, for DATABASE_URL."""
        return (
            f"postgresql://fenvik:{self.secret.read_text().strip()}@{HOST}:{self.port_file.read_text().strip()}/fenvik"
        )

    def _run(self, *command: str, check: bool = True) -> subprocess.CompletedProcess[str]:
        full = [str(self.bin / command[0]), *command[1:]]
        demote = {}
        if self.as_root:
            demote = {"user": OWNER, "group": pwd.getpwnam(OWNER).pw_gid, "extra_groups": []}
        result = subprocess.run(
            full,
            cwd="/",
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            env={"PATH": os.environ.get("PATH", ""), "LC_ALL": "C.UTF-8"},
            **demote,
        )
        if check and result.returncode != 0:
            raise SetupError(f"{command[0]} failed:\n{result.stdout.strip()}")
        return result

    def make(self) -> None:
        """Make the cluster, unless there is one. Raises SetupError."""
        STATE.mkdir(exist_ok=True)
        if (self.data / "PG_VERSION").exists() and self.secret.exists():
            return
        self.remove()
        self.home.mkdir(parents=True, exist_ok=True)
        self.secret.touch(mode=0o600)
        self.secret.write_text(secrets.token_urlsafe(24) + "\n")
        password = self.home / "password"
        password.touch(mode=0o600)
        password.write_text(self.secret.read_text())
        if self.as_root:
            for path in (self.home, password):
                shutil.chown(path, OWNER, OWNER)
        self.home.chmod(0o700)
        self._run(
            "initdb",
            "-D",
            str(self.data),
            "-U",
            "fenvik",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
            "--auth=scram-sha-256",
            f"--pwfile={password}",
            "--no-sync",
        )
        password.unlink()

    def running(self) -> bool:
        """Whether this cluster's server is up."""
        return self._run("pg_ctl", "status", "-D", str(self.data), check=False).returncode == 0

    def keep(self, stopping: threading.Event) -> None:
        """Start the server again where it was whenever it is found dead, until told to stop."""
        while not stopping.wait(LOOK_S):
            try:
                if not self.running():
                    say("the database has ended; it is started again")
                    self.start(port=int(self.port_file.read_text()))
            except SetupError as problem:
                say(str(problem).splitlines()[0])

    def start(self, port: int = 0) -> bool:
        """Start the server on a port, or on a free one; return whether it had to be started. Raises SetupError."""
        self.make()
        if self.running():
            return False
        asked = port
        settings = [f"listen_addresses={HOST}", "unix_socket_directories=", "max_connections=120"]
        settings += SPEED if self.throwaway else []
        for _ in range(5):
            port = port or free_port()
            options = " ".join(f"-c '{setting}'" for setting in [*settings, f"port={port}"])
            log = str(self.home / "log")
            result = self._run("pg_ctl", "start", "-w", "-D", str(self.data), "-l", log, "-o", options, check=False)
            if result.returncode == 0:
                self.port_file.write_text(f"{port}\n")
                self._make_database(port)
                return True
            time.sleep(0.2)  # somebody took the port in between, or its last server is not quite gone
            port = asked
        raise SetupError(f"PostgreSQL does not start:\n{result.stdout.strip()}\nIts log is {self.home / 'log'}")

    def _make_database(self, port: int) -> None:
        known = "SELECT 1 FROM pg_database WHERE datname = 'fenvik'"
        if self._client("psql", port, "-d", "postgres", "-Atc", known) != "1":
            self._client("createdb", port, "fenvik")

    def make_anew(self, name: str) -> str:
        """Make an empty database beside the own one, in the place of one of that name; return its address."""
        port = int(self.port_file.read_text())
        self._client("dropdb", port, "--if-exists", name)
        self._client("createdb", port, name)
        return self.url.removesuffix("/fenvik") + f"/{name}"

    def _client(self, program: str, port: int, *arguments: str) -> str:
        environment = os.environ | {"PGPASSWORD": self.secret.read_text().strip()}
        command = [str(self.bin / program), "-h", HOST, "-p", str(port), "-U", "fenvik", *arguments]
        return subprocess.run(command, env=environment, stdout=subprocess.PIPE, text=True, check=True).stdout.strip()

    def stop(self) -> None:
        """Stop the server."""
        self._run("pg_ctl", "stop", "-w", "-m", "fast", "-D", str(self.data), check=False)

    def remove(self) -> None:
        """Stop the server and throw the cluster away."""
        if self.data.exists():
            self.stop()
        shutil.rmtree(self.home, ignore_errors=True)
        self.secret.unlink(missing_ok=True)
        self.port_file.unlink(missing_ok=True)
