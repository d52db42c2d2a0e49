"""Transforms merged with one another, and moved to another version of their base."""

from __future__ import annotations

import msgspec

from yendo.evidence import Evidence, row
from yendo.formats.msi import Database
from yendo.formats.msi.database import TableCell
from yendo.formats.msi.overlay import Overlay, same_bytes
from yendo.formats.msi.transform import RowKey, TableChange, Transform
from yendo.installers.msi.changes import label
from yendo.installers.msi.fitting import summary_for


class CombiningConflict(msgspec.Struct, frozen=True):
    """Two changes that cannot both be, or a change whose ground has moved: where, in words, and what
    was done about it.
    """

    evidence: Evidence
    message: str
    outcome: str


class Combined(msgspec.Struct, frozen=True):
    """A transform that came of others. ``kept`` of ``total`` row changes are in it."""

    transform: Transform
    conflicts: tuple[CombiningConflict, ...]
    total: int

    @property
    def kept(self) -> int:
        return len(self.transform)


def _said(change: TableChange, key: RowKey) -> dict[str, TableCell] | str | None:
    """What a change does to a row: its new cells, ``"deleted"``, or None for nothing."""
    if key in change.inserted:
        return dict(zip([column.name for column in change.columns], change.inserted[key], strict=True))
    if key in change.updated:
        return change.updated[key]
    return "deleted" if key in change.deleted else None


def merge(base: Database, first: Transform, second: Transform) -> Combined:
    """Both transforms as one; where they disagree, the second has its way and the conflict is named."""
    conflicts: list[CombiningConflict] = []
    tables: dict[str, TableChange] = {}
    for name in sorted(first.tables.keys() | second.tables.keys()):
        one, two = first.tables.get(name), second.tables.get(name)
        if one is None or two is None:
            tables[name] = _copy(one or two or TableChange([]))
            continue
        tables[name] = _merged(base, name, one, two, conflicts)
    streams = dict(first.streams)
    for name, stream in second.streams.items():
        if name in streams and not same_bytes(streams[name], stream):
            conflicts.append(
                CombiningConflict(
                    Evidence("row", name), f"both bring a stream {name}, with other contents", "the second is taken"
                )
            )
        streams[name] = stream
    found = Transform(tables, streams, code_page=second.code_page or first.code_page)
    found.summary = summary_for(base, Overlay(base, [found]))
    return Combined(found, tuple(conflicts), len(first) + len(second))


def _copy(change: TableChange) -> TableChange:
    return TableChange(
        list(change.columns),
        change.created,
        change.dropped,
        change.added,
        dict(change.inserted),
        {key: dict(cells) for key, cells in change.updated.items()},
        list(change.deleted),
    )


def _merged(
    base: Database, name: str, one: TableChange, two: TableChange, conflicts: list[CombiningConflict]
) -> TableChange:
    out = _copy(one)
    if two.dropped or one.dropped:
        out.dropped = True
        if two.dropped != one.dropped:
            conflicts.append(
                CombiningConflict(
                    Evidence("row", name), f"one drops the table {name}, the other changes it", "it is dropped"
                )
            )
        return out
    known = {column.name for column in out.columns}
    more = [column for column in two.columns if column.name not in known]
    out.columns += more
    out.added += 0 if out.created else len(more)
    width = len(out.columns)
    out.inserted = {key: (*cells, *[None] * (width - len(cells))) for key, cells in out.inserted.items()}
    for key in [*two.inserted, *two.updated, *two.deleted]:
        ours, theirs = _said(one, key), _said(two, key)
        if ours is not None and not _agree(ours, theirs):
            what = label(name, _cells(base, name, key) or (theirs if isinstance(theirs, dict) else {}), key)
            conflicts.append(
                CombiningConflict(
                    row(name, *key),
                    f"both change the {what}: {_words(ours)}, and {_words(theirs)}",
                    "the second is taken",
                )
            )
        _put(out, key, theirs)
    return out


def _agree(ours: dict[str, TableCell] | str, theirs: dict[str, TableCell] | str | None) -> bool:
    if isinstance(ours, dict) and isinstance(theirs, dict):
        return all(ours[name] == theirs[name] for name in ours.keys() & theirs.keys())
    return ours == theirs


def _words(said: dict[str, TableCell] | str | None) -> str:
    if isinstance(said, dict):
        return ", ".join(f"{name} = {'nothing' if cell is None else cell}" for name, cell in list(said.items())[:4])
    return "it is dropped" if said == "deleted" else "nothing"


def _put(change: TableChange, key: RowKey, said: dict[str, TableCell] | str | None) -> None:
    if said == "deleted":
        change.updated.pop(key, None)
        if change.inserted.pop(key, None) is None and key not in change.deleted:
            change.deleted.append(key)
        return
    if not isinstance(said, dict):
        return
    if key in change.deleted:
        change.deleted.remove(key)
    names = [column.name for column in change.columns]
    if key in change.inserted:
        before = dict(zip(names, change.inserted[key], strict=True))
        change.inserted[key] = tuple({**before, **said}[name] for name in names)
    elif {column.name for column in change.columns if not column.is_key} <= said.keys() and {
        c.name for c in change.columns if c.is_key
    } <= said.keys():
        change.inserted[key] = tuple(said.get(name) for name in names)
    else:
        change.updated.setdefault(key, {}).update(said)


def _cells(database: Database, table: str, key: RowKey) -> dict[str, TableCell]:
    found = database[table].find(*key) if table in database else None
    return {} if found is None else {column.name: found[column.name] for column in database[table].columns}


def move(transform: Transform, old: Database, new: Database) -> Combined:
    """A transform for ``old`` as one for ``new``: what still has a target goes along, what has none is named."""
    conflicts: list[CombiningConflict] = []
    tables: dict[str, TableChange] = {}
    disks = _new_disks(transform, new)
    for name, change in transform.tables.items():
        if name not in new and not change.created:
            conflicts.append(
                CombiningConflict(
                    Evidence("row", name), f"the new version has no table {name}", f"{_rows(change)} left out"
                )
            )
            continue
        if change.dropped:
            tables[name] = _copy(change)
            continue
        tables[name] = _moved(name, change, old, new, disks, conflicts)
    found = Transform(
        {name: change for name, change in tables.items() if change}, dict(transform.streams), code_page=new.code_page
    )
    found.summary = summary_for(new, Overlay(new, [found]))
    return Combined(found, tuple(conflicts), len(transform))


def _rows(change: TableChange) -> str:
    count = len(change.inserted) + len(change.updated) + len(change.deleted)
    return f"{count} change{'' if count == 1 else 's'}"


def _new_disks(transform: Transform, new: Database) -> dict[TableCell, int]:
    """New numbers for media that the transform brings and whose number the new version uses itself."""
    media = transform.tables.get("Media")
    taken = {entry["DiskId"] for entry in new["Media"]}
    found: dict[TableCell, int] = {}
    for key in media.inserted if media else ():
        if key[0] in taken:
            found[key[0]] = max([number for number in (*taken, *found.values()) if isinstance(number, int)]) + 1
    return found


def _moved(
    name: str,
    change: TableChange,
    old: Database,
    new: Database,
    disks: dict[TableCell, int],
    conflicts: list[CombiningConflict],
) -> TableChange:
    there = new.schema.get(name)
    columns = list(there) if there else list(change.columns)
    known = {column.name for column in columns}
    more = [column for column in change.columns if column.name not in known]
    out = TableChange([*columns, *more], created=there is None, added=0 if there is None else len(more))
    names = [column.name for column in change.columns]
    for key, cells in change.inserted.items():
        given = dict(zip(names, cells, strict=True))
        if name == "Media" and key[0] in disks:
            given["DiskId"] = disks[key[0]]
        row_ = tuple(given.get(column.name) for column in out.columns)
        at = out.key_of(row_)
        mine = _cells(new, name, at)
        if not mine:
            out.inserted[at] = row_
            continue
        said = f"the new version has the {label(name, mine, at)} itself now"
        if any(mine.get(column) != cell for column, cell in given.items()):
            conflicts.append(CombiningConflict(row(name, *at), f"{said}, and another one", "the vendor's stays"))
        else:
            conflicts.append(CombiningConflict(row(name, *at), said, "nothing is to be added"))
    _updated(name, change, old, new, out, conflicts)
    for key in change.deleted:
        if _cells(new, name, key):
            out.deleted.append(key)
        else:
            said = f"the {label(name, _cells(old, name, key), key)} is gone from the new version"
            conflicts.append(CombiningConflict(row(name, *key), said, "nothing is to be dropped"))
    return out


def _updated(
    name: str, change: TableChange, old: Database, new: Database, out: TableChange, conflicts: list[CombiningConflict]
) -> None:
    """Cells that the change sets, on the new version."""
    for key, changed in change.updated.items():
        before, now = _cells(old, name, key), _cells(new, name, key)
        if not now:
            said = f"the {label(name, before, key)} is gone from the new version"
            conflicts.append(CombiningConflict(row(name, *key), said, "the change is left out"))
            continue
        for column, cell in changed.items():
            if now.get(column) == cell:
                continue
            if before and before.get(column) != now.get(column):
                said = f"the vendor changed {column} of the {label(name, now, key)} too: {before.get(column)} -> {now.get(column)}"  # noqa: E501
                conflicts.append(CombiningConflict(row(name, *key), said, f"yours is kept: {cell}"))
            out.updated.setdefault(key, {})[column] = cell
