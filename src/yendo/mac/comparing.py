"""What is different in the vendor's next version for macOS, in words: packages, bundles, images with one of them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from yendo.errors import Usage
from yendo.formats import xar
from yendo.mac import bundles, images, older, reading
from yendo.mac.app import MacApp
from yendo.mac.package import MacComponent, MacPackage
from yendo.terms.amounts import counted, some_of

MacDifference = tuple[str, bool]  # a difference, and whether whoever signs off should know it


def is_one(path: Path) -> bool:
    """Whether a path is something for macOS that is compared."""
    if path.is_dir():
        return (path / "Contents" / "Info.plist").is_file()
    if not path.is_file():
        return False
    with path.open("rb") as file:
        return file.read(4) == xar.MAGIC or images.is_image(path)


def read(path: Path) -> MacApp | MacPackage:
    """The bundle or the package of a path; of an image the one that it holds. Raises Usage, Unreadable, NotCovered."""
    if path.is_dir():
        return older.read(path) if older.is_older(path) else bundles.read(path)
    if not images.is_image(path):
        return reading.read(path)
    found = images.read(path)
    inside: list[MacApp | MacPackage] = [*found.apps, *found.packages]
    if len(inside) != 1:
        names = ", ".join(one.file for one in inside) or "none"
        raise Usage(f"{path.name} holds {names}; take out the one that is meant with yendo read --extract")
    return inside[0]


def differences(old: MacApp | MacPackage, new: MacApp | MacPackage) -> list[MacDifference]:
    """Everything that differs. Raises Usage where one is a bundle and the other a package."""
    if isinstance(old, MacApp) and isinstance(new, MacApp):
        return list(_apps(old, new))
    if isinstance(old, MacPackage) and isinstance(new, MacPackage):
        return list(_packages(old, new))
    raise Usage("one is a bundle and the other a package; take the bundle out of the package to compare them")


def _apps(old: MacApp, new: MacApp) -> Iterator[MacDifference]:
    yield from _values((("identifier", old.identifier, new.identifier), ("name", old.name, new.name)))
    yield from _oldest(old.oldest, new.oldest)
    was, now = (one.code[0] if one.code else None for one in (old, new))
    if was and now:
        yield from _processors(was.processors, now.processors)
        if (was.held, was.team, was.chain[:1]) != (now.held, now.team, now.chain[:1]):
            yield f"{now.words}; the old one was {was.words}", True
        yield from _sets("entitlement", was.entitlements, now.entitlements, mind=True)
    if new.sealed == "broken":
        yield f"it is not what was sealed: {some_of([name for name, _ in new.differing])}", True
    yield from _sets("to be allowed", (what for what, _ in old.asks), (what for what, _ in new.asks), mind=True)
    yield from _sets("program inside", _below(old), _below(new), mind=False)


def _below(app: MacApp) -> Iterator[str]:
    return (one.path for one in app.code[1:])


def _packages(old: MacPackage, new: MacPackage) -> Iterator[MacDifference]:
    yield from _values((("form", old.form, new.form), ("identifier", old.identifier, new.identifier)))
    yield from _oldest(old.oldest, new.oldest)
    yield from _processors(old.architectures, new.architectures)
    if old.signature.words != new.signature.words:
        yield f"{new.signature.words}; the old one was {old.signature.words}", True
    before, after = ({one.identifier: one for one in side.components} for side in (old, new))
    yield from _sets("component", before, after, mind=True)
    for name in after:
        if name in before:
            yield from _components(name, before[name], after[name])
    choices = [{one.identifier: one.selected for one in side.choices} for side in (old, new)]
    yield from _sets("choice", *choices, mind=True)
    known = {(one.id, one.what) for one in old.findings}
    for finding in new.findings:
        if (finding.id, finding.what) not in known:
            yield f"new finding: {finding.what}", finding.level == "error"


def _components(name: str, old: MacComponent, new: MacComponent) -> Iterator[MacDifference]:
    before, after = ({one.path: one for one in side.items} for side in (old, new))
    starts = ({one.path for one in side.starts} for side in (old, new))
    yield from _sets("job of launchd", *starts, mind=True)
    come, gone = [path for path in after if path not in before], [path for path in before if path not in after]
    if come:
        yield f"{name}: {counted(len(come), 'item')} more: {some_of(come)}", False
    if gone:
        yield f"{name}: {counted(len(gone), 'item')} gone: {some_of(gone)}", False
    for path, one in after.items():
        was = before.get(path)
        if was and (was.kind, was.mode, was.user, was.group) != (one.kind, one.mode, one.user, one.group):
            said = f"{one.kind} {one.mode} {one.user}:{one.group}, was {was.kind} {was.mode} {was.user}:{was.group}"
            yield f"{path}: {said}", True
    scripts = [{one.when: one.text for one in side.scripts} for side in (old, new)]
    yield from _sets("script", *scripts, mind=True)
    for when, text in scripts[1].items():
        if when in scripts[0] and scripts[0][when] != text:
            yield f"{name}: its {when} is another", True


def _values(rows: Iterable[tuple[str, str, str]]) -> Iterator[MacDifference]:
    for name, was, now in rows:
        if was != now:
            yield f"its {name} is another: {now or 'none'}, was {was or 'none'}", True


def _oldest(was: str, now: str) -> Iterator[MacDifference]:
    if was != now:
        yield f"it needs macOS {now or 'of any version'}, before {was or 'any'}", True


def _processors(was: Iterable[str], now: Iterable[str]) -> Iterator[MacDifference]:
    yield from _sets("processor", was, now, mind=True)


def _sets(noun: str, was: Iterable[str], now: Iterable[str], *, mind: bool) -> Iterator[MacDifference]:
    before, after = dict.fromkeys(was), dict.fromkeys(now)
    for one in after:
        if one not in before:
            yield f"new {noun}: {one}", mind
    for one in before:
        if one not in after:
            yield f"no {noun} any more: {one}", mind
