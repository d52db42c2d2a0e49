"""What is different in the vendor's next version, in words that a sign-off can use."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Sequence

import msgspec

from yendo.effects import Effect, File, Thing, label
from yendo.effects.effect import NOUNS
from yendo.effects.things import kind_of
from yendo.installers.account import InstallerAccount
from yendo.terms.amounts import counted, size_in_words, some_of

# Of these one by one, since each has a life of its own on a machine; the rest is counted.
_NAMED = ("service", "environment", "part", "access-rights")
_EXPECTED = ("product", "uninstall-entry", "registry-key")  # every version brings its own of these


class Difference(msgspec.Struct, frozen=True):
    """One difference. ``mind``: whoever signs off should know it."""

    text: str
    mind: bool = False


def told(old: InstallerAccount, new: InstallerAccount) -> list[Difference]:
    """Everything that differs between two accounts, the gravest kinds first."""
    return [
        *_identity(old, new),
        *_signature(old, new),
        *_conditions(old, new),
        *_things(old.effects, new.effects),
        *_inside(old, new),
    ]


def _identity(old: InstallerAccount, new: InstallerAccount) -> Iterator[Difference]:
    names = {
        "name": "its name",
        "publisher": "its publisher",
        "architecture": "its architecture",
        "language": "its language",
        "scope": "whom it is for",
        "upgrade_code": "its upgrade code",
    }
    for field, words in names.items():
        before, after = getattr(old.identity, field), getattr(new.identity, field)
        if before != after:
            yield Difference(f"{words} is another: {after or 'unknown'}, was {before or 'unknown'}", True)
    if old.identity.product_code:
        same = old.identity.product_code == new.identity.product_code
        yield Difference(
            "the product code is the same, so the new one does not go over the old by itself"
            if same
            else "a new product code",
            same,
        )
    if old.family != new.family:
        yield Difference(f"its installer is of another family: {new.family}, was {old.family}", True)


def _signature(old: InstallerAccount, new: InstallerAccount) -> Iterator[Difference]:
    before, after = old.signature, new.signature
    if before is None or after is None or (before.signed, before.signer) == (after.signed, after.signer):
        return
    if after.signed and before.signed:
        yield Difference(f"signed by {after.signer}, not by {before.signer} any more", True)
    else:
        yield Difference(
            f"signed by {after.signer} now"
            if after.signed
            else f"not signed any more; {before.signer} had signed the old one",
            True,
        )


def _conditions(old: InstallerAccount, new: InstallerAccount) -> Iterator[Difference]:
    before, after = ({one.condition: one.in_words for one in side.conditions} for side in (old, new))
    for condition, words in after.items():
        if condition not in before:
            yield Difference(f"new launch condition: {words}", True)
    for condition, words in before.items():
        if condition not in after:
            yield Difference(f"launch condition gone: {words}")
    if new.refused and not old.refused:
        yield Difference(f"it refuses a fresh machine: {new.refused}", True)
    for need in new.needs:
        if need not in old.needs:
            yield Difference(f"new prerequisite: {need}", True)


def _afterwards(effects: Sequence[Effect]) -> dict[tuple[str, str], Thing]:
    """What is there once all of it is done, by kind and identity."""
    return {(kind_of(one.thing), one.thing.identity): one.thing for one in effects if one.change != "remove"}


def _things(old: Sequence[Effect], new: Sequence[Effect]) -> Iterator[Difference]:
    """What is there afterwards, held against one another."""
    before, after = _afterwards(old), _afterwards(new)
    kinds = dict.fromkeys(kind for kind, _ in [*after, *before])
    for kind in sorted(kinds, key=lambda kind: (kind not in _NAMED, kind != "file", kind)):
        if kind in _EXPECTED:
            continue
        if kind == "folder" and any(key[0] == "file" for key in {*before} ^ {*after}):
            continue  # folders follow what is in them
        come = [thing for key, thing in after.items() if key[0] == kind and key not in before]
        gone = [thing for key, thing in before.items() if key[0] == kind and key not in after]
        both = [(before[key], thing) for key, thing in after.items() if key[0] == kind and key in before]
        other = [(was, thing) for was, thing in both if was != thing]
        yield from (_one_by_one if kind in _NAMED else _in_numbers)(kind, come, gone, other)


def _one_by_one(
    kind: str, come: Sequence[Thing], gone: Sequence[Thing], other: Sequence[tuple[Thing, Thing]]
) -> Iterator[Difference]:
    """Each by its name: there are few of them, and each matters."""
    noun = NOUNS.get(kind, kind)
    for thing in come:
        yield Difference(f"adds a {noun}: {label(thing)}", True)
    for thing in gone:
        yield Difference(f"the {noun} {label(thing)} is gone", True)
    for was, thing in other:
        parts = [
            f"{name} {getattr(thing, name)}, was {getattr(was, name)}"
            for name in thing.__struct_fields__
            if getattr(thing, name) != getattr(was, name)
        ]
        yield Difference(f"the {noun} {label(thing)} is different: {'; '.join(parts)}", kind == "service")


def _in_numbers(
    kind: str, come: Sequence[Thing], gone: Sequence[Thing], other: Sequence[tuple[Thing, Thing]]
) -> Iterator[Difference]:
    noun = NOUNS.get(kind, kind)
    size = sum(thing.size or 0 for thing in come if isinstance(thing, File))
    if come:
        amount = f", {size_in_words(size)}" if size else ""
        yield Difference(f"{counted(len(come), noun)} more{amount}: {some_of([label(thing) for thing in come])}")
    if gone:
        yield Difference(f"{counted(len(gone), noun)} gone: {some_of([label(thing) for thing in gone])}")
    if other:
        yield Difference(f"{counted(len(other), noun)} different")


def _inside(old: InstallerAccount, new: InstallerAccount) -> Iterator[Difference]:
    yield from _properties(old, new)
    yield from _features(old, new)
    known = {spot.what for spot in old.blind_spots}
    for spot in new.blind_spots:
        if spot.what not in known:
            yield Difference(f"new blind spot: {spot.what}, {spot.why}", True)
    lines = [account.silent.install.command if account.silent.install else "" for account in (old, new)]
    if old.family != "msi" and lines[0].replace(old.file.name, "") != lines[1].replace(new.file.name, ""):
        yield Difference(f"its silent command line is another: {lines[1] or 'unknown'}", True)


def _properties(old: InstallerAccount, new: InstallerAccount) -> Iterator[Difference]:
    before, after = ({one.name: one for one in side.properties} for side in (old, new))
    for name in before:
        if name not in after and before[name].in_silence:
            yield Difference(property_gone(name, old, new), True)
    for name, one in after.items():
        if name not in before and one.in_silence:
            yield Difference(f"new property {name}{f', {one.default} by default' if one.default else ''}")
        elif name in before and one.default != before[name].default:
            was = before[name].default or "unset"
            yield Difference(f"{name} is {one.default or 'unset'} by default, was {was}", one.in_silence)


def _features(old: InstallerAccount, new: InstallerAccount) -> Iterator[Difference]:
    before, after = ({one.id: one for one in side.payload.features} if side.payload else {} for side in (old, new))
    for name, feature in after.items():
        usual = "installed" if feature.by_default else "not installed"
        if name not in before:
            yield Difference(f"new feature {name}, {usual} by default", True)
        elif feature.by_default != before[name].by_default:
            yield Difference(f"feature {name} is {usual} by default now", True)
    for name in before:
        if name not in after:
            yield Difference(f"feature {name} is gone", True)


def property_gone(name: str, old: InstallerAccount, new: InstallerAccount) -> str:
    """That a property is gone, and what may have taken its place."""
    heir = successor(name, old, new)
    return f"{name} is gone, {f'{heir} may have taken its place' if heir else 'nothing replaces it'}"


def successor(name: str, old: InstallerAccount, new: InstallerAccount) -> str | None:
    """A property of the new version that stands where one of the old stood, or is called nearly the same."""
    before, after = ({one.name: one for one in side.properties} for side in (old, new))
    fresh = {key: one for key, one in after.items() if key not in before}
    if name not in before:
        return None
    same = [
        key for key, one in fresh.items() if one.used_in == before[name].used_in and one.default == before[name].default
    ]
    return same[0] if same else next(iter(difflib.get_close_matches(name, fresh, 1, 0.75)), None)


def of_meeting(kind: str, text: str, lost: Sequence[str], over: str) -> Difference:
    """How the new version goes over the old one."""
    if lost:
        return Difference(
            f"over {over}: {kind}, {text}; the removal takes {counted(len(lost), 'file')} of the new one along: "
            f"{some_of(lost)}",
            True,
        )
    return Difference(f"over {over}: {kind}, {text}", kind != "upgrade")
