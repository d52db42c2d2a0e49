"""The changes of a transform in words, each with what is risky about it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

import msgspec

from yendo.evidence import Evidence, row
from yendo.facts import secrets
from yendo.formats.msi import Database
from yendo.formats.msi.database import TableCell
from yendo.formats.msi.overlay import Overlay
from yendo.formats.msi.transform import RowKey, TableChange, Transform
from yendo.installers.msi.session import ROOTS, long_name

_ROOTS = {-1: "HKCU or HKLM", **ROOTS}
STARTS = {0: "boot", 1: "system", 2: "auto", 3: "demand", 4: "disabled"}
# More than this many rows of one table are told as a count with an example.
MANY = 12

# Rows that only serve others.
_GO_ALONG = {"MsiFileHash", "FeatureComponents", "Media", "PatchPackage", "Directory", "_Validation"}

# Columns that say in what order files lie in their medium, and nothing to a machine.
_NUMBERING = {("File", "Sequence"), ("Media", "LastSequence")}

ChangedCells = Mapping[str, TableCell]


class DatabaseChange(msgspec.Struct, frozen=True):
    """One change: what it does in words, the row, and why a person should look at it."""

    kind: str  # adds, drops or changes
    text: str
    evidence: Evidence
    risk: str | None = None
    rows: int = 1
    goes_along: bool = False  # it serves another change


def _cell(cells: ChangedCells, name: str) -> str:
    value = cells.get(name)
    return "" if value is None else str(value)


def _registry(cells: ChangedCells) -> str:
    root = cells.get("Root")
    return f"{_ROOTS.get(root, '?') if isinstance(root, int) else '?'}\\{_cell(cells, 'Key')}\\{_cell(cells, 'Name') or '(unnamed)'}"  # noqa: E501


# How a row of a table is called, beside its key.
_NAMES: dict[str, tuple[str, Callable[[ChangedCells], str]]] = {
    "Binary": ("embedded file", lambda cells: _cell(cells, "Name")),
    "Component": ("component", lambda cells: _cell(cells, "Component")),
    "CreateFolder": ("folder to create", lambda cells: _cell(cells, "Directory_")),
    "CustomAction": ("custom action", lambda cells: _cell(cells, "Action")),
    "Directory": (
        "directory",
        lambda cells: f"{_cell(cells, 'Directory')} ({long_name(_cell(cells, 'DefaultDir').partition(':')[0])})",
    ),
    "Environment": ("environment variable", lambda cells: _cell(cells, "Name").lstrip("=+-!*")),
    "Feature": ("feature", lambda cells: _cell(cells, "Feature")),
    "FeatureComponents": (
        "component of a feature",
        lambda cells: f"{_cell(cells, 'Component_')} in {_cell(cells, 'Feature_')}",
    ),
    "File": ("file", lambda cells: long_name(_cell(cells, "FileName")) or _cell(cells, "File")),
    "IniFile": (
        "ini value",
        lambda cells: f"{long_name(_cell(cells, 'FileName'))} [{_cell(cells, 'Section')}] {_cell(cells, 'Key')}",
    ),
    "InstallExecuteSequence": ("step of the silent sequence", lambda cells: _cell(cells, "Action")),
    "InstallUISequence": ("step of the dialog sequence", lambda cells: _cell(cells, "Action")),
    "LaunchCondition": ("launch condition", lambda cells: _cell(cells, "Condition")),
    "Media": ("medium", lambda cells: _cell(cells, "Cabinet") or _cell(cells, "DiskId")),
    "MsiFileHash": ("hash of file", lambda cells: _cell(cells, "File_")),
    "Property": ("property", lambda cells: _cell(cells, "Property")),
    "Registry": ("registry value", _registry),
    "ServiceControl": ("control of service", lambda cells: _cell(cells, "Name")),
    "ServiceInstall": ("service", lambda cells: _cell(cells, "Name")),
    "Shortcut": ("shortcut", lambda cells: f"{long_name(_cell(cells, 'Name'))} in {_cell(cells, 'Directory_')}"),
    "Upgrade": (
        "upgrade rule",
        lambda cells: f"{_cell(cells, 'VersionMin') or 'any'} to {_cell(cells, 'VersionMax') or 'any'}",
    ),
}
# The cell that says most of a new row.
_VALUES = {
    "Property": "Value",
    "Registry": "Value",
    "Environment": "Value",
    "IniFile": "Value",
    "Shortcut": "Target",
    "CustomAction": "Target",
}


def _shown(table: str, key: RowKey, column: str, value: TableCell) -> str:
    if value is None:
        return "nothing"
    if table == "Property" and column == "Value" and secrets.is_secret(str(key[0])):
        return secrets.MASK
    if table == "ServiceInstall" and column == "StartType" and isinstance(value, int):
        return STARTS.get(value, str(value))
    if (table, column) == ("ServiceInstall", "Password"):
        return secrets.MASK
    text = str(value)
    return text if len(text) <= 120 else text[:117] + "..."


def noun(table: str) -> str:
    """What a row of a table is called."""
    return _NAMES[table][0] if table in _NAMES else f"row of {table}"


def label(table: str, cells: ChangedCells, key: RowKey) -> str:
    """What a row is called: its kind and its name."""
    if table in _NAMES:
        return f"{noun(table)} {_NAMES[table][1](cells)}"
    return f"row {','.join('' if part is None else str(part) for part in key)} of {table}"


def _level(limit: int, old: TableCell, new: TableCell) -> str | None:
    was, now = (isinstance(level, int) and 0 < level <= limit for level in (old, new))
    if new == 0:
        return "is never installed"
    if was != now:
        return "is installed by default" if now else "is left out by default"
    return None


class _Told:
    """Words and risks of one transform on one database."""

    def __init__(self, base: Database, transform: Transform) -> None:
        self.base, self.transform = base, transform
        self.after = Overlay(base, [transform])
        level = base["Property"].find("INSTALLLEVEL")
        text = level.text("Value") if level else "1"
        self.limit = int(text) if text.isdigit() else 1

    def cells(self, database: Database, table: str, key: RowKey) -> dict[str, TableCell]:
        found = database[table].find(*key) if table in database else None
        return {column.name: found[column.name] for column in database[table].columns} if found is not None else {}

    def all(self) -> Iterator[DatabaseChange]:
        for table, change in self.transform.tables.items():
            if change.dropped:
                yield DatabaseChange(
                    "drops",
                    f"the table {table} with {len(self.base[table])} rows",
                    Evidence("row", table),
                    "everything in it is gone",
                )
                continue
            if change.added:
                names = ", ".join(column.name for column in change.columns[-change.added :])
                yield DatabaseChange("adds", f"columns to {table}: {names}", Evidence("row", table))
            yield from self._table(table, change)
        for name, why in self.transform.undecoded.items():
            yield DatabaseChange(
                "changes",
                f"the table {name} in a way that cannot be read: {why}",
                Evidence("row", name),
                "nobody knows what it does",
            )

    def _table(self, table: str, change: TableChange) -> Iterator[DatabaseChange]:
        inserted = [
            self._one("adds", table, key, {}, dict(zip([column.name for column in change.columns], cells, strict=True)))
            for key, cells in change.inserted.items()
        ]
        deleted = [self._one("drops", table, key, self.cells(self.base, table, key), {}) for key in change.deleted]
        changed = []
        for key, cells in change.updated.items():
            old = self.cells(self.base, table, key)
            touched = tuple(name for name, cell in cells.items() if not old or old.get(name) != cell)
            touched = tuple(name for name in touched if (table, name) not in _NUMBERING) or touched
            if touched:
                changed.append(self._one("changes", table, key, old, {**old, **cells}, touched))
        for found in (inserted, deleted, changed):
            risky = [entry for entry in found if entry.risk]
            plain = [entry for entry in found if not entry.risk]
            yield from risky[:MANY]
            if len(risky) > MANY:
                rest = risky[MANY:]
                yield DatabaseChange(
                    rest[0].kind,
                    f"{len(rest)} more rows of {table}, such as {rest[0].text}",
                    rest[0].evidence,
                    rest[0].risk,
                    len(rest),
                )
            if len(plain) > MANY:
                yield DatabaseChange(
                    plain[0].kind,
                    f"{len(plain)} rows of {table}, such as {plain[0].text}",
                    plain[0].evidence,
                    None,
                    len(plain),
                )
            else:
                yield from plain

    def _one(
        self, kind: str, table: str, key: RowKey, old: ChangedCells, new: ChangedCells, touched: tuple[str, ...] = ()
    ) -> DatabaseChange:
        text = label(table, new if kind == "adds" else old or new, key)
        if kind == "adds" and table in _VALUES:
            text += f" = {_shown(table, key, _VALUES[table], new.get(_VALUES[table]))}"
        elif kind == "changes":
            parts = []
            for column in touched:
                words = (
                    _level(self.limit, old.get(column), new.get(column))
                    if (table, column) == ("Feature", "Level")
                    else None
                )
                said = f"{_shown(table, key, column, old.get(column))} -> {_shown(table, key, column, new.get(column))}"
                parts.append(
                    f"{words} (level {said})" if words else said if column == _VALUES.get(table) else f"{column} {said}"
                )
            text += (": " if not parts or not parts[0].startswith("is ") else " ") + ", ".join(parts)
        risk = next(filter(None, (judge(self, kind, table, key, old, new, touched) for judge in _RISKS)), None)
        own = (table == "Component" and kind == "adds") or (
            bool(touched) and all((table, name) in _NUMBERING for name in touched)
        )
        return DatabaseChange(kind, text, row(table, *key), risk, goes_along=not risk and (own or table in _GO_ALONG))


Risk = Callable[[_Told, str, str, RowKey, ChangedCells, ChangedCells, tuple[str, ...]], str | None]


def _identity(
    told: _Told, kind: str, table: str, key: RowKey, old: ChangedCells, new: ChangedCells, touched: tuple[str, ...]
) -> str | None:
    if table != "Property":
        return None
    name = str(key[0])
    if secrets.is_secret(name) and kind != "drops" and new.get("Value"):
        return "a secret in clear text: everyone who has the package can read it"
    return {
        "ProductCode": "it becomes another product: commands by the vendor's code no longer reach it",
        "UpgradeCode": "it leaves the vendor's line: later versions no longer find it to upgrade",
        "ProductVersion": "the version is no longer the vendor's: patches and upgrades judge by it",
        "ALLUSERS": "it decides for whom the product is installed",
    }.get(name)


def _components(
    told: _Told, kind: str, table: str, key: RowKey, old: ChangedCells, new: ChangedCells, touched: tuple[str, ...]
) -> str | None:
    if table == "Component":
        if kind == "drops":
            return "a component is gone: what older versions installed with it stays for ever"
        if kind == "changes" and {"ComponentId", "KeyPath", "Directory_"} & set(touched):
            return "a component rule is broken: the same component is something else in other versions"
    if table == "File" and kind == "drops":
        return "a file leaves a component that keeps its identifier: repair and patches still expect it"
    if table == "File" and kind == "changes" and {"Component_", "FileName"} & set(touched):
        return "a file moves within a component that keeps its identifier"
    if kind == "adds" and table in ("File", "Registry", "Shortcut", "ServiceInstall", "Environment", "IniFile"):
        component = new.get("Component_")
        if isinstance(component, str) and told.base["Component"].find(component) is not None:
            return f"it adds to the vendor's component {component}, which other versions count as their own"
    return None


def _code(
    told: _Told, kind: str, table: str, key: RowKey, old: ChangedCells, new: ChangedCells, touched: tuple[str, ...]
) -> str | None:
    if table == "CustomAction" and kind != "drops":
        number = new.get("Type")
        flags = number if isinstance(number, int) else 0
        if flags & 0x3F in (19, 35, 51):
            return None
        return "it runs code" + (" as the system account" if flags & 0x400 and flags & 0x800 else "")
    if table == "Binary":
        return "code that custom actions run may be in it"
    if table == "InstallExecuteSequence" and told.base["CustomAction"].find(key[0]) is None and kind != "adds":
        return "a standard action no longer runs when the vendor meant it to"
    return None


def _guards(
    told: _Told, kind: str, table: str, key: RowKey, old: ChangedCells, new: ChangedCells, touched: tuple[str, ...]
) -> str | None:
    if table == "LaunchCondition" and kind != "adds":
        return "it installs where the vendor refuses"
    if table == "Upgrade":
        return "it decides which older versions are removed"
    return None


def _media(
    told: _Told, kind: str, table: str, key: RowKey, old: ChangedCells, new: ChangedCells, touched: tuple[str, ...]
) -> str | None:
    if table == "Media" and kind != "drops":
        cabinet = str(new.get("Cabinet") or "")
        if cabinet.startswith("#") and told.after.stream(cabinet[1:]) is None:
            return "its cabinet is neither in the database nor in the transform: the files in it cannot be installed"
    return None


_RISKS: tuple[Risk, ...] = (_identity, _components, _code, _guards, _media)


def in_words(base: Database, transform: Transform) -> list[DatabaseChange]:
    """Every change that a transform makes to ``base``, the same table together, long lists shortened."""
    return list(_Told(base, transform).all())
