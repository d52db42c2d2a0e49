"""Vendor files kept once, in a folder of one's own or one that several people share.

``objects/ab/abcd…`` is a file by its SHA-256, ``notes/abcd…/*.json`` what is known of it: each note is a file of its
own, so that two who add the same file at once never write over one another. A file is first written beside the others
and then takes its name in one step; what a killed process leaves is only ever in ``coming/``, and goes with the next
purge.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import secrets
import time
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from yendo import atomic, digest, host_os
from yendo.errors import Unreadable, Usage

PIECE = 4 << 20
GRACE = 3600.0  # seconds: what was added so lately is no waste, a plan may be about to name it
STALE = 24 * 3600.0  # seconds after which an unfinished copy is nobody's any more


class Note(msgspec.Struct, frozen=True):
    """What somebody said when a file was added: its name then, where it came from, when (UTC)."""

    name: str
    origin: str
    added: str


class Item(msgspec.Struct, frozen=True):
    """One file of the store; ``size`` in bytes."""

    sha256: str
    size: int
    notes: tuple[Note, ...] = ()

    @property
    def name(self) -> str:
        return self.notes[-1].name if self.notes else "(added by a copy that was cut off before it said its name)"


class StoreVerdict(msgspec.Struct, frozen=True):
    """Whether a file of the store is still what its name says."""

    item: Item
    holds: bool
    found: str


class Store:
    """A store in a folder, which is made by the first thing that is added."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    # --- adding and finding -------------------------------------------------------------------------

    def path(self, sha256: str) -> Path:
        """Where a file of this content lies, or would."""
        return self.folder / "objects" / sha256[:2] / sha256

    def has(self, sha256: str) -> bool:
        return self.path(sha256).is_file()

    def add(self, source: Path, *, origin: str = "", name: str | None = None) -> Item:
        """Keeps a copy of a file; where the content is there already, only the note is added. Raises Usage."""
        if not source.is_file():
            raise Usage(f"{source} is no file")
        coming = self.folder / "coming"
        coming.mkdir(parents=True, exist_ok=True)
        part = coming / f"{os.getpid()}-{secrets.token_hex(8)}"
        state, size = hashlib.sha256(), 0
        try:
            with source.open("rb") as reader, part.open("xb") as writer:
                while piece := reader.read(PIECE):
                    state.update(piece)
                    writer.write(piece)
                    size += len(piece)
                writer.flush()
                os.fsync(writer.fileno())
            sha256 = state.hexdigest()
            target = self.path(sha256)
            with self._lock():
                target.parent.mkdir(parents=True, exist_ok=True)
                if target.is_file() and target.stat().st_size == size:
                    os.utime(target)  # it is wanted again, so a purge leaves it for a while
                else:
                    part.chmod(0o444)
                    host_os.replace(part, target)
                self._note(sha256, Note(name or source.name, origin, datetime.now(UTC).isoformat(timespec="seconds")))
        finally:
            part.unlink(missing_ok=True)
        found = self.item(sha256)
        assert found is not None
        return found

    def _note(self, sha256: str, note: Note) -> None:
        folder = self.folder / "notes" / sha256
        folder.mkdir(parents=True, exist_ok=True)
        key = hashlib.sha256(f"{note.name}\0{note.origin}".encode()).hexdigest()[:16]
        if not (folder / f"{key}.json").is_file():
            atomic.write(folder / f"{key}.json", msgspec.json.encode(note) + b"\n")

    def item(self, sha256: str) -> Item | None:
        """What is known of a file; None where it is not in the store."""
        path = self.path(sha256)
        try:
            size = path.stat().st_size
        except FileNotFoundError:
            return None
        notes = []
        for file in (self.folder / "notes" / sha256).glob("*.json"):
            with contextlib.suppress(OSError, msgspec.MsgspecError):
                notes.append(msgspec.json.decode(file.read_bytes(), type=Note))
        return Item(sha256, size, tuple(sorted(notes, key=lambda note: (note.added, note.name))))

    def items(self) -> Iterator[Item]:
        """Everything in the store, by its name."""
        found = [self.item(path.name) for path in (self.folder / "objects").glob("??/*")]
        yield from sorted((item for item in found if item), key=lambda item: (item.name.lower(), item.sha256))

    def find(self, word: str) -> Item:
        """The one file that a name, or the beginning of a hash, means. Raises Usage."""
        found = [
            item
            for item in self.items()
            if item.sha256.startswith(word.lower()) or word in [note.name for note in item.notes]
        ]
        if len(found) == 1:
            return found[0]
        raise Usage(
            f"the store has no file {word!r}"
            if not found
            else f"{word!r} means {len(found)} files: {', '.join(item.sha256[:12] for item in found)}"
        )

    def take(self, sha256: str, target: Path) -> None:
        """A copy of a file where it is wanted, whole or not at all.

        Raises Usage where it is not there, Unreadable where it is damaged.
        """
        source = self.path(sha256)
        if not source.is_file():
            raise Usage(f"the store in {self.folder} has no file {sha256[:12]}…")
        target.parent.mkdir(parents=True, exist_ok=True)
        state = hashlib.sha256()
        with source.open("rb") as reader, atomic.writing(target) as writer:
            while piece := reader.read(PIECE):
                state.update(piece)
                writer.write(piece)
            if state.hexdigest() != sha256:
                raise Unreadable(f"{source} is damaged: its content is {state.hexdigest()[:12]}…; add the file again")

    # --- looking after it -----------------------------------------------------------------------------

    def verify(self) -> Iterator[StoreVerdict]:
        """Every file read again, and held against its name."""
        for item in self.items():
            found = digest.of_file(self.path(item.sha256))
            yield StoreVerdict(item, found == item.sha256, found)

    def unused(self, wanted: Iterable[str], *, now: float | None = None) -> list[Item]:
        """What no plan names, and was not added or asked for within the last hour."""
        named, now = set(wanted), time.time() if now is None else now
        return [
            item
            for item in self.items()
            if item.sha256 not in named and self.path(item.sha256).stat().st_mtime < now - GRACE
        ]

    def purge(self, items: Iterable[Item], wanted: Iterable[str] = ()) -> int:
        """Takes files out, and what cut-off copies have left; returns the bytes that this frees."""
        freed, named = 0, set(wanted)
        with self._lock():  # nobody adds a file again while it is being taken out
            for item in items:
                path = self.path(item.sha256)
                if item.sha256 in named or not path.is_file() or path.stat().st_mtime >= time.time() - GRACE:
                    continue
                path.unlink()
                for note in (self.folder / "notes" / item.sha256).glob("*"):
                    note.unlink(missing_ok=True)
                with contextlib.suppress(OSError):
                    (self.folder / "notes" / item.sha256).rmdir()
                freed += item.size
            for part in (self.folder / "coming").glob("*"):
                with contextlib.suppress(OSError):
                    if part.stat().st_mtime < time.time() - STALE:
                        freed += part.stat().st_size
                        part.unlink()
        return freed

    @contextlib.contextmanager
    def _lock(self) -> Iterator[None]:
        self.folder.mkdir(parents=True, exist_ok=True)
        with host_os.locked(self.folder / "lock"):
            yield


def wanted_by(folders: Iterable[Path]) -> Mapping[str, list[str]]:
    """Every file that a plan below these folders names: its hash, and the plans.

    A plan that cannot be read stops it. Raises Usage.
    """
    import tomllib

    found: dict[str, list[str]] = {}
    for folder in folders:
        for plan in sorted(folder.rglob("plan.toml")):
            try:
                media = tomllib.loads(plan.read_text("utf-8")).get("media", [])
                named = [str(medium["sha256"]) for medium in media]
            except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, KeyError, TypeError, AttributeError) as error:
                raise Usage(f"{plan} cannot be read ({error}), so nobody knows what it uses; mend it first") from error
            for sha256 in named:
                found.setdefault(sha256, []).append(str(plan))
    return found
