"""A PostgreSQL of its own, which only a socket leads to."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from conftest import missing

SERVERS = sorted(Path("/usr/lib/postgresql").glob("*/bin")) if os.name == "posix" else []


class DatabaseServer:
    def __init__(self, folder: Path, options: str) -> None:
        self.folder, self.options = folder, options
        self.address = f"postgresql://postgres@/postgres?host={folder}"

    def run(self, name: str, *words: str) -> None:
        line = ["runuser", "-u", "postgres", "--", str(SERVERS[-1] / name), "-D", str(self.folder / "data"), *words]
        subprocess.run(line, check=True, capture_output=True, cwd=self.folder)

    def start(self) -> None:
        self.run("pg_ctl", "-w", "-l", str(self.folder / "log"), "-o", self.options, "start")

    def restart(self) -> None:
        """Every connection is cut."""
        self.run("pg_ctl", "-w", "-m", "immediate", "stop")
        self.start()


@contextmanager
def started(*, safe: bool = False) -> Iterator[DatabaseServer]:
    """The server; ``safe`` where what is committed has to be on the disk."""
    if not SERVERS or not shutil.which("runuser"):
        missing("postgresql", "apt-get install postgresql")
    folder = Path(subprocess.run(
        ["runuser", "-u", "postgres", "--", "mktemp", "-d"], capture_output=True, text=True, check=True
    ).stdout.strip())  # fmt: skip
    more = "" if safe else " -c fsync=off"
    found = DatabaseServer(folder, f"-c listen_addresses='' -c unix_socket_directories={folder}{more}")
    found.run("initdb", "--auth=trust", "--no-sync", "--encoding=UTF8")
    found.start()
    try:
        yield found
    finally:
        found.run("pg_ctl", "-m", "immediate", "stop")
        shutil.rmtree(folder)
