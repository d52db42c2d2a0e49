"""What a person asked of the old installer, tried on the new one: changes, transforms, properties, features,
recordings.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import tomlkit

from yendo import atomic
from yendo.errors import YendoError
from yendo.formats.msi import Database, transform
from yendo.installers.msi import combining, intent, layers
from yendo.renew import merge
from yendo.renew.merge import MARK, Kept, MergeConflict, Moved
from yendo.renew.work import Work
from yendo.terms.changes import PlannedChange, PropertyChange

_CHANGE: Any = PlannedChange  # a union, which the type checker does not admit where values are read


def changes(work: Work) -> None:
    """The wishes of a person, each tried on the new installer; what has no target leaves the plan and is listed."""
    for step in work.steps():
        wishes = step.get("change")
        if wishes is None:
            continue
        reasons: list[str | None] = []
        if work.both_msi:
            with Database(work.before) as old, Database(work.installer) as new:
                reasons = [_wish(work, wish, old, new) for wish in wishes]
        else:
            reasons = ["it is no installer database any more"] * len(wishes)
        for at, reason in reversed(list(enumerate(reasons))):
            if reason is not None:
                plain = merge.plain(wishes[at])
                change: Any = msgspec.convert(plain, _CHANGE)
                out = MergeConflict(
                    _named(plain),
                    _wanted(change),
                    "you asked for it",
                    "it has no target",
                    reason,
                    "taken out",
                    f"[[install.change]]\n{merge.as_toml(wishes[at])}",
                )
                work.merge.conflicts.append(out)
                del wishes[at]
        if not len(wishes):
            del step["change"]


def _wish(work: Work, wish: Any, old: Database, new: Database) -> str | None:
    """Why a wish has no target on the new installer; None where it has."""
    change: Any = msgspec.convert(merge.plain(wish), _CHANGE)
    if isinstance(change, PropertyChange):
        gone = work.gone(change.name)
        if gone:
            return gone
    find = work.file
    try:
        intent.transform_for(new, [change], find)
    except intent.IntentError as error:
        return "; ".join(f"{misfit.message}, {misfit.remedy}" for misfit in error.misfits)
    except YendoError as error:
        return str(error)
    try:
        made = intent.transform_for(old, [change], find)
    except YendoError:
        return None  # it never had a target: check says so
    label = _named(merge.plain(wish))
    both = [
        one
        for one in combining.move(made, old, new).conflicts
        if "the vendor changed" in one.message or "itself now" in one.message
    ]
    for one in both:
        work.merge.conflicts.append(
            MergeConflict(label, _wanted(change), "you asked for it", one.message, str(one.evidence), one.outcome)
        )
        wish.add(tomlkit.comment(f"{MARK}: {one.message}"))
    if not both:
        work.merge.kept.append(Kept(label, _wanted(change)))
    return None


def transforms(work: Work) -> None:
    """Transforms that came from elsewhere, carried over to the new database."""
    for step in work.steps():
        names = [str(name) for name in step.get("transforms", [])]
        for name in names:
            if not work.both_msi:
                _transform_out(work, step, name, "it is no installer database any more")
            elif name.startswith(":"):
                with Database(work.installer) as new:
                    try:
                        layers.apply_transforms(new, [name[1:]])
                    except layers.Refused as refused:
                        _transform_out(work, step, name, refused.message)
            elif (work.copy / name).is_file() and Path(name).name not in work.now.extras:
                _move(work, step, name)


def _move(work: Work, step: Any, name: str) -> None:
    path = work.copy / name
    with Database(work.before) as old, Database(work.installer) as new:
        moved = combining.move(transform.read(path, old), old, new)
        for one in moved.conflicts:
            work.merge.conflicts.append(
                MergeConflict(
                    name,
                    str(one.evidence),
                    "the transform changes it",
                    one.message,
                    f"read from {work.words[1]}",
                    one.outcome,
                )
            )
        if not len(moved.transform):
            _transform_out(work, step, name, "nothing that it changes is there any more")
            return
        path.unlink()  # it may be shared with the workspace
        with atomic.writing(path) as target:
            transform.write(moved.transform, target)
    work.merge.moved.append(
        Moved(name, f"{moved.total} changes to {work.words[0]}", f"{moved.kept} changes to {work.words[1]}")
    )


def _transform_out(work: Work, step: Any, name: str, reason: str) -> None:
    _without(step, "transforms", name)
    work.merge.conflicts.append(
        MergeConflict(
            name, "it is applied", "you named it", "it is not", reason, "taken out", f'transforms = ["{name}"]'
        )
    )


def _without(step: Any, key: str, name: str) -> None:
    """Takes one name out of a list of a step, and the list with the last."""
    rest = [one for one in merge.plain(step[key]) if one != name]
    if rest:
        step[key] = rest
    else:
        del step[key]


def properties(work: Work) -> None:
    """Properties that a person gives and that the new installer does not know any more."""
    for step in work.steps() if work.both_msi else []:
        given = step.get("properties", {})
        for key in list(given):
            why = work.gone(key)
            if not why:
                _default_moved(work, key, given)
                continue
            text = f"{key} = {merge.said(merge.plain(given[key]))}"
            place = f"install, the installer.properties.{key}"
            # a three-way conflict about it is the same one, told better here
            work.merge.conflicts[:] = [one for one in work.merge.conflicts if one.place != place]
            work.merge.kept[:] = [one for one in work.merge.kept if one.place != place]
            work.merge.conflicts.append(
                MergeConflict(
                    place, text, "you give it", "nothing takes it", why, "taken out", f"[install.properties]\n{text}"
                )
            )
            del given[key]


def _default_moved(work: Work, key: str, given: Any) -> None:
    """A decision taken while the vendor's default was another one: it stays, and is to be looked at again."""
    place = f"install, the installer.properties.{key}"
    before, after = (
        next((one.default for one in side.account.properties if one.name == key), None) for side in (work.was, work.now)
    )
    yours = merge.plain(given[key])
    if before == after or yours == after or any(one.place == place for one in work.merge.conflicts):
        return
    old, fresh = work.words
    why = f"you decided it; by default it was {merge.said(before)} in {old}"
    work.merge.conflicts.append(
        MergeConflict(place, merge.said(yours), why, merge.said(after), f"the default of {fresh}", "yours stays")
    )
    given[key].comment(f"{merge.MARK}: {fresh} says {merge.said(after)}, {old} said {merge.said(before)}")


def features(work: Work) -> None:
    payload = work.now.account.payload
    known = {one.id for one in payload.features} if payload else set()
    for step in work.steps() if work.both_msi else []:
        for name in [
            name for name in merge.plain(step.get("features", [])) if name not in known and "{setting." not in name
        ]:
            _without(step, "features", name)
            work.merge.conflicts.append(
                MergeConflict(
                    "install, the installer.features",
                    name,
                    "you chose it",
                    "it is not there",
                    f"{work.words[1]} has no feature {name}",
                    "taken out",
                    f'features = ["{name}"]',
                )
            )


def observed(work: Work) -> None:
    """What a trial of the old setup recorded says nothing of the new one."""
    steps = [
        step for verb in ("install", "uninstall", "repair") for step in work.mine.get(verb, []) if "observed" in step
    ]
    for step in steps:
        del step["observed"]
    work.merge.kept[:] = [one for one in work.merge.kept if not one.place.endswith(".observed")]
    if steps:
        work.open.append(
            f"yendo try {work.installer} --into {work.workspace}: command lines, detection and recordings came from "
            "a trial of the old setup"
        )


def _named(wish: Mapping[str, Any]) -> str:
    return f"install, {wish.get('kind')} {wish.get('name') or wish.get('to') or wish.get('key') or ''}".rstrip()


def _wanted(change: Any) -> str:
    fields = {
        name: value
        for name, value in msgspec.to_builtins(change).items()
        if name not in ("kind", "note", "name", "to", "key")
    }
    return ", ".join(f"{name} = {merge.said(value)}" for name, value in fields.items())
