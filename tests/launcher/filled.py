"""A database server of a test's own with the tables that `./fenvik test` has migrated already, where it has."""

import os
import subprocess


def fill(postgres):
    """Copy them there; return whether there was anything to copy."""
    template = os.environ.get("TEST_DATABASE_TEMPLATE")
    if not template:
        return False
    with subprocess.Popen([postgres.bin / "pg_dump", "--no-owner", template], stdout=subprocess.PIPE) as dump:
        write = [postgres.bin / "psql", "-q", "-v", "ON_ERROR_STOP=1", "-o", os.devnull, postgres.url]
        subprocess.run(write, stdin=dump.stdout, check=True)
    return True
