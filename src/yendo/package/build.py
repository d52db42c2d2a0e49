"""Building a package: every byte of media is read once, hashed on the way, and checked against the plan."""

from __future__ import annotations

import contextlib
import hashlib
import os
import queue
import re
import threading
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

import yendo
from yendo import atomic, templates
from yendo.errors import Unreadable, Usage
from yendo.package import archive as archives
from yendo.package import bill, scripts, tag
from yendo.package import manifest as form
from yendo.plan import Plan
from yendo.plan.model import VERBS
from yendo.platforms.windows.capture_record import HELD, PROMISE, Promise
from yendo.steps import captured, kind_of
from yendo.steps.base import below, brought

PIECE = 4 << 20
RECORD = ".yendo/built.json"


class Built(msgspec.Struct, frozen=True):
    """A package that was built: its folder, its archive if asked for, its manifest's hash, its size in bytes."""

    folder: Path
    archive: Path | None
    digest: str
    size: int
    manifest: form.Manifest


class _Pipe:
    """A consumer of pieces on a thread of its own, so that hashing and writing overlap."""

    def __init__(self, consume: Callable[[bytes], object]) -> None:
        self._queue: queue.Queue[bytes | None] = queue.Queue(4)
        self._consume = consume
        self._error: BaseException | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        failed: BaseException | None = None
        while (piece := self._queue.get()) is not None:
            if failed is None:
                try:
                    self._consume(piece)
                except BaseException as error:
                    failed = error
        self._error = failed

    def put(self, piece: bytes) -> None:
        self._queue.put(piece)

    def close(self) -> None:
        self._queue.put(None)
        self._thread.join()
        if self._error is not None:
            raise self._error


class _Writer:
    """Writes files into the package's folder and, where asked, into the archive, in one pass."""

    def __init__(self, folder: Path, archive: zipfile.ZipFile | None) -> None:
        self.folder, self.archive = folder, archive
        self.files: list[form.PackedFile] = []
        self._made: set[Path] = set()

    def place(self, name: str) -> Path:
        """Where a file goes; its folder is made once."""
        target = self.folder / name
        if target.parent not in self._made:
            target.parent.mkdir(parents=True, exist_ok=True)
            self._made.add(target.parent)
        return target

    def copy(self, source: Path, name: str) -> form.PackedFile:
        target = self.place(name)
        if self.archive is None:
            try:
                small = source.read_bytes() if source.stat().st_size <= PIECE else None
            except OSError as error:
                raise Usage(f"{source}: {error.strerror}") from error
            if small is not None:  # a thread for each small file costs more than it saves
                return self.write(name, small)
        state = hashlib.sha256()
        size = 0
        with contextlib.ExitStack() as stack:
            try:
                reader = stack.enter_context(source.open("rb", buffering=0))
            except OSError as error:
                raise Usage(f"{source}: {error.strerror}") from error
            writer = stack.enter_context(target.open("wb", buffering=0))
            hashing = _Pipe(state.update)
            stack.callback(hashing.close)
            packing = None
            if self.archive is not None:
                member = stack.enter_context(self.archive.open(archives.member(name), "w", force_zip64=True))
                packing = _Pipe(member.write)
                stack.callback(packing.close)
            while piece := reader.read(PIECE):
                hashing.put(piece)
                if packing:
                    packing.put(piece)
                rest = memoryview(piece)
                while rest:
                    rest = rest[writer.write(rest) :]
                size += len(piece)
        entry = form.PackedFile(name, size, state.hexdigest())
        self.files.append(entry)
        return entry

    def write(self, name: str, data: bytes) -> form.PackedFile:
        self.place(name).write_bytes(data)
        if self.archive is not None:
            self.archive.writestr(archives.member(name), data)
        entry = form.PackedFile(name, len(data), hashlib.sha256(data).hexdigest())
        self.files.append(entry)
        return entry


def name_of(plan: Plan) -> str:
    """The package's folder name."""
    package = plan.package
    named = {
        "id": package.id,
        "version": package.version,
        "revision": str(package.revision),
        "publisher": package.publisher,
        "architecture": package.architecture,
    }
    text = re.sub(r"\{([a-z]+)\}", lambda match: named[match[1]], package.folder)
    return (
        "".join(character if character.isalnum() or character in ".-_" else "-" for character in text).strip(".")
        or package.id
    )


def build(workspace: Path, plan: Plan, *, output: Path | None = None, archive: bool = False) -> Built:
    """Builds the package into ``output`` (``WORKSPACE/package``). It is complete there, or not there.

    Raises Unreadable where media is not what the plan says, Usage where a file is missing.
    """
    parent = output or workspace / "package"
    target = parent / name_of(plan)
    packed = archives.beside(target)
    with contextlib.ExitStack() as stack:
        folder = stack.enter_context(atomic.folder(target))
        unfinished = parent / f".{packed.name}.{os.getpid()}"
        atomic.sweep(parent, f".{packed.name}.")
        zipped = None
        if archive:
            stack.callback(unfinished.unlink, missing_ok=True)
            zipped = stack.enter_context(zipfile.ZipFile(unfinished, "w", zipfile.ZIP_STORED))
        manifest, digest, size = _fill(workspace, plan, _Writer(folder, zipped))
        if zipped is not None:
            zipped.close()
            unfinished.replace(packed)
        elif packed.exists():
            packed.unlink()  # it would be of another build than the folder
    return Built(target, packed if archive else None, digest, size, manifest)


def _fill(workspace: Path, plan: Plan, writer: _Writer) -> tuple[form.Manifest, str, int]:
    for medium in plan.media:
        source = workspace / "media" / medium.file
        if not source.resolve().is_relative_to((workspace / "media").resolve()):
            raise Usage(f"media {medium.file!r} leads outside media/")
        entry = writer.copy(source, f"media/{medium.file}")
        if entry.sha256 != medium.sha256:
            raise Unreadable(
                f"media/{medium.file} has changed since the plan was drafted (its hash is {entry.sha256[:16]}…); "
                "put the vendor's file back, or draft anew from the new one"
            )
    base = workspace.resolve()
    sources, made = own_files(base, plan)
    for name, data in made.items():
        writer.write(name, data)
    digest_of = {path: writer.copy(path, path.relative_to(base).as_posix()).sha256 for path in sources}
    content = tuple(sorted(writer.files, key=lambda file: file.path))
    tool = f"yendo {yendo.__version__}"
    manifest = form.resolve(base, plan, content, digest_of, tool)
    writer.write("apply.ps1", scripts.runner(manifest))
    writer.write("apply.cmd", scripts.doorway(manifest).encode("ascii"))
    writer.write("detect.ps1", scripts.detection(manifest))
    writer.write("handover.md", handover(plan, manifest).encode())
    writer.write("bill-of-materials.cdx.json", bill.encode(manifest))
    writer.write(f"{manifest.id}.swidtag", tag.encode(manifest))
    if (promised := _promised(base, plan)) is not None:
        writer.write(PROMISE, promised)
    manifest = msgspec.structs.replace(manifest, files=tuple(sorted(writer.files, key=lambda file: file.path)))
    data = form.encode(manifest)
    writer.write("manifest.json", data)
    return manifest, hashlib.sha256(data).hexdigest(), sum(file.size for file in writer.files)


def _promised(base: Path, plan: Plan) -> bytes | None:
    """What was captured and comes with the package, as it is held against it; None where nothing was."""
    if (base / HELD).is_file():
        return (base / HELD).read_bytes()
    brought = [captured.promise(step, base) for step in plan.install if isinstance(step, captured.CapturedStep)]
    if not brought:
        return None
    whole = Promise(
        kept=tuple(effect for one in brought for effect in one.kept),
        left=tuple(effect for one in brought for effect in one.left),
    )
    return msgspec.json.encode(whole) + b"\n"


def handover(plan: Plan, manifest: form.Manifest) -> str:
    """The text for whoever receives the package, from the office's template where it has one.

    Raises TemplateProblem, HouseError.
    """
    furnished = plan.furnished
    own = furnished.house.templates.handover if furnished else None
    return templates.render(
        "handover.md",
        furnished.beside(own) if own else None,
        manifest=manifest,
        office=furnished.house.name if furnished else "",
        conditions=[node.in_words for node in manifest.when],
        rules=[rule.title for rule in manifest.detect],
        exit_codes=[(code, known.meaning, known.outcome) for code, known in form.EXIT_CODES.items()],
        size=sum(file.size for file in manifest.files),
    )


def own_files(base: Path, plan: Plan) -> tuple[list[Path], dict[str, bytes]]:
    """What a package has beside its media: files below ``extras/``, and what is made for its steps, by name.

    Raises Usage where a file is not there, IntentError where a change has no target.
    """
    found: set[Path] = set()
    made: dict[str, bytes] = {}
    for verb in VERBS:
        steps = form.steps_of(base, plan, verb)
        for number, step in enumerate(steps, 1):
            found.update(kind_of(step).sources(step, base))
            made |= kind_of(step).made(step, form.at(base, plan, verb, number, steps=steps))
    for name in _scripts(plan):
        found.add(below(base, name, "extras"))
    for need in plan.need:
        if need.source:
            found.update(brought(base, need.source))
    if plan.package.icon:
        found.add(below(base, plan.package.icon, "extras"))
    return sorted(found), made


def _scripts(plan: Plan) -> list[str]:
    """The scripts that conditions ask."""
    steps = [step for verb in VERBS for step in (*plan.standing(verb)[0], *plan.steps(verb), *plan.standing(verb)[1])]
    conditions = [plan.when, *(step.when for step in steps)]
    return [name for condition in conditions if condition for name in condition.scripts()]


def content_digest(manifest: form.Manifest) -> str:
    """What a machine gets, as one hash: steps and files, without the revision and the rules."""
    bare = msgspec.structs.replace(
        manifest,
        revision=0,
        detect=(),
        tool="",
        about=form.About(),
        files=tuple(file for file in manifest.files if file.path.startswith(form.CONTENT)),
    )
    return hashlib.sha256(form.encode(bare)).hexdigest()


def record(workspace: Path, built: Built, *, although: Mapping[str, str] = {}) -> None:
    """Remembers what was built, and over which errors, each with the reason."""
    path = workspace / RECORD
    path.parent.mkdir(exist_ok=True)
    rules = msgspec.to_builtins(built.manifest.detect)
    atomic.write(
        path,
        msgspec.json.format(
            msgspec.json.encode(
                {
                    "revision": built.manifest.revision,
                    "version": built.manifest.version,
                    "content": content_digest(built.manifest),
                    "detect": rules,
                    "digest": built.digest,
                    **({"although": dict(although)} if although else {}),
                }
            ),
            indent=2,
        )
        + b"\n",
    )
