"""A fixed sample of the judge. ``./run judge`` takes every case, by both writers."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any

import pytest

sys.path.insert(0, str(Path(__file__).parent))

from cases import _ANY, CASES
from judge import builder, judge
from specimens import all_of_them

from yendo.formats.msi import Database, overlay
from yendo.installers.msi import intent
from yendo.terms.changes import DropChange

pytestmark = pytest.mark.wine


@pytest.mark.parametrize("at", range(0, len(CASES), 4 if os.environ.get("CI") else 2), ids=lambda at: CASES[at].name)
def test_predicted_is_observed(wine: Any, tmp_path: Path, at: int) -> None:
    """Every second case, a third of them with installers by the layer's own writer; the judge takes them all."""
    found = judge(wine, CASES[at], tmp_path, real_writer=at % 3 == 1)
    if CASES[at].apart:  # still so; a layer that has learnt it should be counted with the others
        assert not found.agrees, found
        return
    assert found.agrees, found
    assert found.matched >= 3 or CASES[at].name == "refused"


@pytest.mark.parametrize("name", ["registry-kinds", "service", "many-files", "icons"])
def test_both_writers_are_read_alike(machine: Any, tmp_path: Path, name: str) -> None:
    """The same tables by our writer and by the real one, cell by cell."""
    specimen = all_of_them()[name]
    (tmp_path / "real").mkdir(), (tmp_path / "own").mkdir()
    theirs = specimen.theirs(tmp_path / "real", builder(machine, tmp_path / "real"))
    with Database(specimen.ours(tmp_path / "own")) as own, Database(theirs) as real:
        assert set(own.tables) <= set(real.tables)
        for table in own.tables:
            assert [column.idt for column in own[table].columns] == [column.idt for column in real[table].columns]
            assert sorted(map(tuple, own[table]), key=str) == sorted(map(tuple, real[table]), key=str), table
        assert own.summary.template == real.summary.template and own.summary.revision == real.summary.revision


@pytest.mark.parametrize("applied", [False, True], ids=["written", "with a transform in it"])
def test_the_real_reader_reads_ours(machine: Any, vendor: Path, tmp_path: Path, applied: bool) -> None:
    """Every table of the demo's installer, and of one that a transform was applied to, exported by the layer's own code."""
    (tmp_path / "in").mkdir()
    source = tmp_path / "in" / "lantern.msi"
    (tmp_path / "added.txt").write_bytes(b"added")
    with Database(vendor / "lantern-6.2.1.msi") as base, source.open("wb") as file:
        found = intent.transform_for(
            base,
            [*_ANY, DropChange(what="shortcut", name="DesktopLantern")] if applied else [],
            lambda name: tmp_path / name,
        )
        overlay.write(overlay.Overlay(base, [found]), file)
    machine.bring(tmp_path / "in", r"C:\vendor")
    target = machine.host("C:\\") / "out"
    target.mkdir()
    ran = machine.run(r"msidb -e -d C:\vendor\lantern.msi -f C:\out *", timeout=120)
    assert ran.exit_code == 0, ran
    with Database(source) as own:
        assert ("MARKER" in {row[0] for row in own["Property"]}) == applied
        for table in own.tables:
            lines = (target / f"{table}.idt").read_bytes().decode("cp1252").split("\r\n")
            columns = own[table].columns
            assert lines[0].split("\t") == [column.name for column in columns]
            rows = sorted(tuple(line.split("\t")) for line in lines[3:] if line)
            ours = sorted(
                tuple(
                    "" if cell is None else f"{row[0]}.ibd" if column.is_stream else str(cell)
                    for column, cell in zip(columns, row, strict=True)
                )
                for row in own[table]
            )
            assert rows == ours, table


def test_an_upgrade_ends_as_predicted(machine: Any, wine: Any, vendor: Path) -> None:
    """The older release, then the newer one over it: the state in the end, thing by thing."""
    from yendo.effects import agreement, difference
    from yendo.installers.msi import engine
    from yendo.machines.wine import quirks
    from yendo.prove.comparison import without_contents

    machine.bring(vendor, r"C:\vendor")
    before, memories, paths = wine.baseline(), {}, {}
    state = before.copy()
    for version in ("6.1.0", "6.2.1"):
        assert machine.run(rf"msiexec /i C:\vendor\lantern-{version}.msi /qn SITE=Marrowby", timeout=120).exit_code == 0
        path = vendor / f"lantern-{version}.msi"
        with Database(path) as database:
            outcome = engine.run(
                database,
                machine.surroundings,
                state,
                {"SITE": "Marrowby"},
                memories=memories,
                open_package=lambda memory: Database(paths[memory.code]),
            )
        assert outcome.exit_code == 0 and outcome.memory
        memories = {code: memory for code, memory in memories.items() if code not in outcome.removed} | {
            outcome.memory.code: outcome.memory
        }
        paths[outcome.memory.code] = path
    assert len(memories) == 1
    predicted, _ = quirks.adapt(difference(before, state, "predicted"))
    found = agreement(predicted, without_contents(difference(before, machine.state()), predicted))
    assert not found.missed and not found.false, (found.missed, found.false)


def test_a_copy_serves_where_nothing_can_be_mounted(wine: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Without the right to mount, a proof works on a copy of the files; the template stays as it was."""
    from yendo.machines.wine import copies

    monkeypatch.setattr(copies.PrivateCopy, "_overlay", lambda self: False)
    before = (wine.template / "prefix" / "system.reg").read_bytes()
    found = judge(wine, next(case for case in CASES if case.name == "folders"), tmp_path, real_writer=False)
    assert found.agrees and found.matched >= 9, found
    assert (wine.template / "prefix" / "system.reg").read_bytes() == before
    assert not (wine.template / "prefix" / "drive_c" / "Program Files" / "Specimen folders").exists()
