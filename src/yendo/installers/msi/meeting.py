"""What happens where versions meet: each installer on a machine that has each other one.

Computed by the same interpreter that predicts: the one that is there is installed first, then the
other is run over it, and what is on the machine in the end says which case it was.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec

from yendo.effects import Effect, File, Product, Service, State, difference
from yendo.errors import Unreadable
from yendo.facts.versions import Version
from yendo.formats.msi import Database
from yendo.installers.msi import describe, engine, fitting
from yendo.installers.msi.session import Memory
from yendo.platforms.windows.surroundings import Surroundings, windows


class Release(msgspec.Struct, frozen=True):
    """One installer of the matrix."""

    path: Path
    name: str
    version: str
    product_code: str
    upgrade_code: str
    package_code: str


class Meeting(msgspec.Struct, frozen=True):
    """What comes of running ``new`` where ``there`` is installed.

    ``kind``: same, upgrade, minor update, downgrade, side by side, refused. ``command`` are words the
    command line needs beside the usual ones; ``lost`` are files of the newer state that are missing in
    the end, which a removal in the wrong order takes along.
    """

    there: Release
    new: Release
    kind: str
    text: str
    exit_code: int
    command: str = ""
    lost: tuple[str, ...] = ()


def releases(paths: Sequence[Path]) -> list[Release]:
    """The installers of files and folders, oldest first. Raises Unreadable where a named file is none."""
    found = []
    for path in paths:
        files = sorted(path.glob("*.[mM][sS][iI]")) if path.is_dir() else [path]
        if not files:
            raise Unreadable(f"{path} holds no .msi files")
        for file in files:
            with Database(file) as database:
                known = fitting.facts(database)
                found.append(
                    Release(
                        file,
                        known.get("ProductName", file.stem),
                        known.get("ProductVersion", ""),
                        known.get("ProductCode", "").upper(),
                        known.get("UpgradeCode", "").upper(),
                        (database.summary.revision or "").upper(),
                    )
                )
    return sorted(found, key=lambda release: (_number(release.version), release.path.name))


def _number(text: str) -> tuple[int, ...]:
    try:
        return Version.parse(text).product
    except ValueError:
        return ()


def matrix(paths: Sequence[Path], surroundings: Surroundings | None = None) -> tuple[list[Release], list[Meeting]]:
    """Every pair, the installed one first. Raises Unreadable."""
    found = releases(paths)
    around = surroundings or windows()
    starts = {release.path: _install(release, around) for release in found}
    return found, [_meet(there, new, starts, around) for there in found for new in found]


class _Start(msgspec.Struct, frozen=True):
    state: State
    memory: Memory | None
    outcome: engine.EngineOutcome


def _install(release: Release, around: Surroundings) -> _Start:
    state = describe.baseline(around)
    with Database(release.path) as database:
        outcome = engine.run(database, around, state, {})
    return _Start(state, outcome.memory, outcome)


def _meet(there: Release, new: Release, starts: dict[Path, _Start], around: Surroundings) -> Meeting:
    start = starts[there.path]
    if start.memory is None:
        return Meeting(
            there,
            new,
            "refused",
            f"{there.version} itself does not install on a fresh machine",
            start.outcome.exit_code,
        )
    if there.product_code == new.product_code and new.product_code:
        return _same_product(there, new, start, around)
    state = start.state.copy()
    with Database(new.path) as database:
        outcome = engine.run(
            database,
            around,
            state,
            {},
            memories={start.memory.code: start.memory},
            open_package=lambda memory: Database(there.path),
        )
        if not outcome.done:
            return Meeting(
                there,
                new,
                "refused",
                f"refused with {outcome.exit_code}" + (f": {outcome.refusal}" if outcome.refusal else ""),
                outcome.exit_code,
            )
        left = sum(isinstance(thing, Product) for thing in state)
        if start.memory.code in outcome.removed:
            order = _order(database)
            lost = _lost(state, starts[new.path].state)
            older = _number(new.version) < _number(there.version)
            return Meeting(
                there,
                new,
                "downgrade" if older else "upgrade",
                f"{there.version} is removed {order}",
                outcome.exit_code,
                "",
                lost,
            )
        if left > 1:
            fresh = describe.baseline(around)
            both = [thing for thing in starts[new.path].state.of("file") if start.state.has(thing)]
            shared = len([thing for thing in both if not fresh.has(thing)])
            why = "no rule of its own finds the older one" if there.upgrade_code == new.upgrade_code else "another line"
            text = f"both are installed ({why})" + (
                f", {shared} file{' is' if shared == 1 else 's are'} the same" if shared else ""
            )
            return Meeting(there, new, "side by side", text, outcome.exit_code)
    return Meeting(there, new, "upgrade", "it takes the other's place", outcome.exit_code)


def _same_product(there: Release, new: Release, start: _Start, around: Surroundings) -> Meeting:
    if there.package_code == new.package_code:
        return Meeting(there, new, "same", "nothing to do: it is this very package", 0)
    older = _number(new.version) < _number(there.version)
    state = start.state.copy()
    assert start.memory is not None
    with Database(new.path) as database:
        given = {"REINSTALL": "ALL", "REINSTALLMODE": "vomus"}
        outcome = engine.run(database, around, state, given, memories={start.memory.code: start.memory})
    if not outcome.done:
        return Meeting(
            there,
            new,
            "refused",
            f"refused with {outcome.exit_code}" + (f": {outcome.refusal}" if outcome.refusal else ""),
            outcome.exit_code,
        )
    kept = [
        thing.path.rpartition("\\")[2]
        for thing in state.of("file")
        if isinstance(thing, File) and _newer_than(thing, new, start.state, outcome)
    ]
    if older:
        text = (
            "refused with 1638; reinstalling it would leave newer files behind"
            if kept
            else "refused with 1638 without REINSTALL"
        )
        return Meeting(there, new, "downgrade", text, 1638, "REINSTALL=ALL REINSTALLMODE=vamus")
    if there.version == new.version:
        return Meeting(
            there,
            new,
            "minor update",
            "the same version in another package; refused with 1638 without REINSTALL",
            1638,
            _MINOR,
        )
    return Meeting(there, new, "minor update", "refused with 1638 without REINSTALL", 1638, _MINOR)


_MINOR = "REINSTALL=ALL REINSTALLMODE=vomus"


def _newer_than(file: File, new: Release, before: State, outcome: engine.EngineOutcome) -> bool:
    """Whether a file with a version stayed as it was."""
    if not file.version:
        return False
    return before.get("file", file.path) == file and not any(effect.thing == file for effect in outcome.effects)


def _order(database: Database) -> str:
    """When the older one is removed, in words."""
    numbers = {row.text("Action"): row.number("Sequence") for row in database["InstallExecuteSequence"]}
    at = numbers.get("RemoveExistingProducts", 0)
    if at > numbers.get("InstallFinalize", 1 << 30):
        return "last, when the new one is complete"
    if at > numbers.get("InstallFiles", 1 << 30):
        return "after the new files are in place"
    if at > numbers.get("InstallInitialize", 1 << 30):
        return "first, within the same transaction: a failure brings it back"
    return "first, before the new one starts: a failure leaves neither"


def _lost(state: State, fresh: State) -> tuple[str, ...]:
    """Files, services and the like that a fresh installation has and the upgraded machine lacks."""
    missing: list[Effect] = [effect for effect in difference(state, fresh) if effect.change == "add"]
    return tuple(str(effect.thing.identity) for effect in missing if isinstance(effect.thing, (File, Service)))[:20]
