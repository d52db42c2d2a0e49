"""An inventory in PostgreSQL: a real server, several processes at once."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import postgres_server
import pytest

pytest.importorskip("sqlalchemy")
pytest.importorskip("psycopg")

from yendo.demo import all_machines
from yendo.errors import Usage
from yendo.fleet.incoming import gathered
from yendo.fleet.reports import outcomes_of
from yendo.fleet.store import Inventory


@pytest.fixture
def server() -> Iterator[str]:
    """The address of a server of its own."""
    with postgres_server.started() as found:
        yield found.address


def test_the_same_as_in_a_file(server: str, tmp_path: Path) -> None:
    paths = all_machines.write(tmp_path)
    shared, own = Inventory(server), Inventory(tmp_path / "fleet.db")
    for one in (shared, own):
        one.keep(gathered(paths[:2]))
        one.keep_question("newer", 'os = ">=10.0.22000"')
    left, right = shared.load(), own.load()
    assert (
        left.computers == right.computers and left.programs == right.programs and (left.held.on == right.held.on).all()
    )
    assert shared.ask_again("newer") == own.ask_again("newer")
    outcomes = outcomes_of(paths[2:])
    assert shared.report(outcomes) == 540 and shared.report(outcomes) == 0
    assert sorted(one.id for one in shared.outcomes()) == sorted(one.id for one in outcomes)


def test_several_processes_at_once(server: str, tmp_path: Path) -> None:
    """They find no tables, make them once, and each report counts once."""
    outcomes = all_machines.write(tmp_path)[2]
    line = [sys.executable, "-m", "yendo", "fleet", "report", str(outcomes), "--inventory", server, "--json"]
    running = [subprocess.Popen(line, stdout=subprocess.PIPE, text=True) for _ in range(4)]
    told = [process.communicate(timeout=120)[0] for process in running]
    assert [process.returncode for process in running] == [0] * 4, told
    assert len(Inventory(server).outcomes()) == 540


def test_a_server_that_is_not_there(tmp_path: Path) -> None:
    with pytest.raises(Usage, match="cannot be opened"):
        Inventory(f"postgresql://office:secret@/x?host={tmp_path}").load()
