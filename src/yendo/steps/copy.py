"""Steps that place files."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from yendo import digest
from yendo.errors import Usage
from yendo.steps.base import DONE, Action, ActionData, At, Kind, Result, Step, in_package
from yendo.terms import events
from yendo.terms.amounts import Text
from yendo.terms.settings import names_in
from yendo.walk import files_below

if TYPE_CHECKING:
    from yendo.steps.host import Host


class CopyStep(Step, tag="copy", frozen=True, rename={"source": "from"}, kw_only=True):
    """Places a file, or the contents of a folder, from ``extras/`` on the machine.

    ``existing``: replace a file that is there, or keep it. ``mirror``: afterwards the folder ``to`` holds nothing else;
    what it held besides is kept aside and put back by the uninstall. ``fill``: the files are texts (UTF-8, or UTF-16
    with a byte order mark) in which ``{setting.NAME}`` stands for a value chosen at delivery.
    """

    source: Text
    to: Text
    existing: Literal["replace", "keep"] = "replace"
    mirror: bool = False
    fill: bool = False


def filled(data: bytes, values: dict[str, str]) -> bytes:
    """A text file with its places filled, in the encoding that it has. Raises ValueError where it is no text."""
    encoding = "utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8"
    text = data.decode(encoding if encoding == "utf-8" else "utf-16-le" if data[:1] == b"\xff" else "utf-16-be")
    for name, value in values.items():
        text = text.replace(f"{{setting.{name}}}", value)
    return text.encode(encoding if encoding == "utf-8" else "utf-16-le" if data[:1] == b"\xff" else "utf-16-be")


def places_of(paths: Iterable[Path]) -> list[str]:
    """The settings that stand in files. Raises Usage where one is no text."""
    found: set[str] = set()
    for path in paths:
        data = path.read_bytes()
        try:
            found |= names_in(data.decode("utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8"))
        except UnicodeDecodeError as error:
            raise Usage(f"copy: {path.name} is no text, so no setting can be filled in: {error}") from error
    return sorted(found)


def extras(workspace: Path, step: CopyStep) -> list[tuple[Path, str]]:
    """``(file, target)`` for what a copy step places. Raises Usage when its source is not there or leads outside."""
    base = (workspace / "extras").resolve()
    source = (workspace / step.source.replace("\\", "/")).resolve()
    if not source.is_relative_to(base):
        raise Usage(f"copy: from = {step.source!r} is not below extras/")
    if source.is_file():
        target = step.to + source.name if step.to.endswith(("\\", "/")) else step.to
        return [(source, target.replace("/", "\\"))]
    if not source.is_dir():
        raise Usage(f"copy: {step.source} is not there")
    root = step.to.rstrip("\\/").replace("/", "\\")
    return [(path, root + "\\" + name.replace("/", "\\")) for name, path in files_below(source)]


class CopiedFile(msgspec.Struct, frozen=True):
    """``source`` is in the package; ``sha256`` may be empty."""

    source: str
    to: str
    sha256: str = ""


class CopyData(ActionData, frozen=True):
    """``mirror`` is a folder where nothing else stays, ``fill`` settings by their places; ``folders`` stay empty."""

    items: tuple[CopiedFile, ...]
    keep: bool = False
    mirror: str = ""
    fill: dict[str, str] | msgspec.UnsetType = msgspec.UNSET
    folders: tuple[str, ...] | msgspec.UnsetType = msgspec.UNSET


class CopyKind(Kind[CopyStep]):
    step = CopyStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: CopyStep, at: At) -> Action:
        items = tuple(
            CopiedFile(in_package(at.base, path), target, at.digest(path)) for path, target in extras(at.base, step)
        )
        mirror = step.to.rstrip("\\/").replace("/", "\\") if step.mirror else ""
        fill: dict[str, str] | msgspec.UnsetType = msgspec.UNSET
        if step.fill:
            names = places_of(self.sources(step, at.base))
            unknown = [name for name in names if name not in at.settings]
            if unknown:
                raise Usage(
                    f"copy: {step.source} has a place for the setting {unknown[0]!r}, which the plan does not have"
                )
            fill = {name: f"{{setting.{name}}}" for name in names}
        data = CopyData(items, step.existing == "keep", mirror, fill)
        return Action("copy", f"place {step.source}", data=data.plain())

    def sources(self, step: CopyStep, base: Path) -> list[Path]:
        return [path for path, _ in extras(base, step)]

    def perform(self, action: Action, host: Host) -> Result:
        own = CopyData.of(action)
        wanted = set()
        for item in own.items:
            target = host.expand(item.to)
            wanted.add(target.lower())
            source = host.package / item.source
            if own.keep and host.session.digest(target) is not None:
                host.tell(events.Changed("kept", target))
                continue
            if own.fill:
                placed = host.put(target, filled(source.read_bytes(), own.fill))
            else:
                placed = host.put_file(target, source, item.sha256 or digest.of_file(source))
            host.tell(events.Changed("placed" if placed else "already there", target))
        for folder in own.folders or ():
            host.folders(host.expand(folder))
        if own.mirror:
            for path in host.session.files_below(host.expand(own.mirror)):
                if path.lower() not in wanted:
                    host.drop(path)
                    host.tell(events.Changed("taken away", path))
        return DONE

    def mistakes(self, step: CopyStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.mirror and step.to.count("\\") < 2 and "%" not in step.to:
            yield "mirror", f"it would empty {step.to}", "mirror a folder of the program's own"
