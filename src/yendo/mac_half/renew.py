"""Carries the half for macOS over to the vendor's next version: what was read follows, what was decided stays.

Both versions are drafted anew; where the plan still says what the old draft says, it follows the new one.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import tomlkit

from yendo import atomic
from yendo.draft import writing
from yendo.errors import Usage
from yendo.mac_half import draft, model, reading, sources
from yendo.mac_half.draft import MacDrafted
from yendo.mac_half.model import MacPlan

EARLIER = "earlier"
_FOLLOWS = ("name", "version", "publisher", "oldest", "processors")


class MacMoved(msgspec.Struct, frozen=True):
    """A value of the plan, what it was and what it is; of one that is kept, what the vendor says instead."""

    place: str
    was: str
    now: str


class MacRenewal(msgspec.Struct, frozen=True):
    """``differences`` are what the vendor changed, ``followed`` what went along, ``kept`` what somebody had decided."""

    was: str
    now: str
    differences: tuple[MacMoved, ...]
    followed: tuple[MacMoved, ...]
    kept: tuple[MacMoved, ...]
    written: bool


class _Side(msgspec.Struct, frozen=True):
    """One version: its draft as it was written, and read."""

    drafted: MacDrafted
    plan: MacPlan


def renew(
    folder: Path, source: Path, *, inside: str = "", dry: bool = False, although: tuple[str, ...] = ()
) -> MacRenewal:
    """Raises Usage where it is no next version, Unreadable, NotCovered."""
    plan, _ = reading.read(folder)
    at, step = _carried(plan)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        old = _side(Path(place) / "old", folder / "media" / step.source, getattr(step, "inside", ""))
        new = _side(Path(place) / "new", source, inside)
        _is_next(old, new, although)
        document, _ = writing.plan_of(folder / reading.NAME)
        followed: list[MacMoved] = []
        kept: list[MacMoved] = []
        for moved, mine in _moved(plan, old, new, at, document):
            (followed if mine else kept).append(moved)
        differences = tuple(
            MacMoved(name, old.drafted.facts.get(name, ""), now)
            for name, now in new.drafted.facts.items()
            if old.drafted.facts.get(name, "") != now
        )
        found = MacRenewal(
            old.plan.package.version, new.plan.package.version, differences, tuple(followed), tuple(kept), not dry
        )
        if not dry:
            _put(folder, place=Path(place) / "new", step=step, new=new, version=old.plan.package.version)
            atomic.write(folder / reading.NAME, tomlkit.dumps(document).encode())
            reading.read(folder)
    return found


def _carried(plan: MacPlan) -> tuple[int, model.AppStep | model.VendorPackageStep]:
    """The step that carries the vendor's program."""
    found = [
        (at, step) for at, step in enumerate(plan.install) if isinstance(step, model.AppStep | model.VendorPackageStep)
    ]
    if len(found) != 1:
        raise Usage(
            "one step with a bundle or a package of the vendor is renewed; edit the plan where there are others"
        )
    at, step = found[0]
    if isinstance(step, model.AppStep) and step.intel:
        raise Usage(
            "of one bundle for each processor both are new: put them into media/, and their digests into the plan"
        )
    return at, step


def _side(folder: Path, source: Path, inside: str) -> _Side:
    drafted = draft.draft(folder, [source], inside=inside)
    return _Side(drafted, reading.read(folder)[0])


def _is_next(old: _Side, new: _Side, although: tuple[str, ...]) -> None:
    def identity(side: _Side) -> set[str]:
        return {getattr(rule, "identifier", "") for rule in side.plan.detect}

    was, now = old.plan.package.version, new.plan.package.version
    theirs = ", ".join(sorted(identity(new)))
    refusals = {
        "other-product": (not identity(old) & identity(new), f"it is another program: {theirs}"),
        "same-version": (was == now, f"it is {now} as well"),
        "older": (_order(now) < _order(was), f"it is {now}, older than {was}"),
    }
    for name, (holds, words) in refusals.items():
        if holds and name not in although:
            raise Usage(f"{words}; where that is meant: --although {name}")


def _order(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("."))


def _moved(
    plan: MacPlan, old: _Side, new: _Side, at: int, document: tomlkit.TOMLDocument
) -> Iterator[tuple[MacMoved, bool]]:
    """Each value that the vendor changed, and whether it follows; those that do are changed in the document."""
    package: Any = document["package"]
    for name in _FOLLOWS:
        was, now, mine = (getattr(one.package, name) for one in (old.plan, new.plan, plan))
        if was != now:
            follows = mine == was
            yield MacMoved(f"package.{name}", _text(mine), _text(now)), follows
            if follows:
                package[name] = list(now) if isinstance(now, tuple) else now
    if plan.package.revision != 1 and plan.package.version != new.plan.package.version:
        yield MacMoved("package.revision", str(plan.package.revision), "1"), True
        package["revision"] = 1
    step = writing.part(document, "install")[at]
    there = new.plan.install[0]
    for name in ("source", "inside"):
        was, now = step.get(name, ""), getattr(there, name, "")
        if was != now:
            yield MacMoved(f"install {at + 1}.{name}", was, now), True
            step[name] = now
    media: Any = document["media"]
    was_medium = getattr(old.plan.install[0], "source", "")  # a draft begins with what it carries
    for medium in media:
        if medium["file"] == was_medium:
            medium["file"], medium["sha256"] = new.plan.media[0].file, new.plan.media[0].sha256
    yield from _rules(plan, old, new, document)


def _rules(plan: MacPlan, old: _Side, new: _Side, document: tomlkit.TOMLDocument) -> Iterator[tuple[MacMoved, bool]]:
    tables: Any = document.get("detect", [])
    later = {(type(rule), getattr(rule, "identifier", "")): getattr(rule, "version", "") for rule in new.plan.detect}
    before = {(type(rule), getattr(rule, "identifier", "")): getattr(rule, "version", "") for rule in old.plan.detect}
    for number, rule in enumerate(plan.detect):
        key = (type(rule), getattr(rule, "identifier", ""))
        was, now, mine = before.get(key, ""), later.get(key, ""), getattr(rule, "version", "")
        if now and was != now:
            yield MacMoved(f"detect {number + 1}.version", mine, now), mine == was
            if mine == was:
                tables[number]["version"] = now


def _text(value: object) -> str:
    return ", ".join(map(str, value)) if isinstance(value, tuple) else str(value)


def _put(folder: Path, place: Path, step: model.AppStep | model.VendorPackageStep, new: _Side, version: str) -> None:
    """The old medium goes below ``earlier/``, the new one takes its place."""
    aside = folder / EARLIER / version / step.source
    aside.parent.mkdir(parents=True, exist_ok=True)
    if aside.is_dir():
        shutil.rmtree(aside)
    shutil.move(folder / "media" / step.source, aside)
    name = new.plan.media[0].file
    shutil.move(place / "media" / name, folder / "media" / name)
    assert sources.digest_of(folder / "media" / name) == new.plan.media[0].sha256
