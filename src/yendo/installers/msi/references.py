"""Which rows belong together: foreign keys in both directions, and a query over one or two tables."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import msgspec

from yendo.errors import Usage
from yendo.formats.msi import Database
from yendo.formats.msi.database import Table, TableCell, TableRow
from yendo.formats.msi.transform import RowKey

# Foreign keys whose column is not called after its table. Source: the documentation of each table.
_NAMED = {
    ("Component", "KeyPath"): ("File", "Registry", "ODBCDataSource"),
    ("Component", "Directory_"): ("Directory",),
    ("Directory", "Directory_Parent"): ("Directory",),
    ("Feature", "Feature_Parent"): ("Feature",),
    ("Shortcut", "WkDir"): ("Directory",),
    ("Shortcut", "Target"): ("Feature",),
    ("IniFile", "DirProperty"): ("Directory",),
    ("RemoveFile", "DirProperty"): ("Directory",),
    ("RemoveIniFile", "DirProperty"): ("Directory",),
    ("DuplicateFile", "DestFolder"): ("Directory",),
    ("MoveFile", "SourceFolder"): ("Directory",),
    ("MoveFile", "DestFolder"): ("Directory",),
    ("ProgId", "ProgId_Parent"): ("ProgId",),
    ("Class", "ProgId_Default"): ("ProgId",),
    ("CustomAction", "Source"): ("Binary", "File", "Directory", "Property"),
    ("InstallExecuteSequence", "Action"): ("CustomAction",),
    ("InstallUISequence", "Action"): ("CustomAction", "Dialog"),
    ("IsolatedComponent", "Component_Shared"): ("Component",),
    ("IsolatedComponent", "Component_Application"): ("Component",),
    ("MsiAssembly", "File_Manifest"): ("File",),
    ("MsiAssembly", "File_Application"): ("File",),
    ("ODBCDriver", "File_Setup"): ("File",),
    ("LockPermissions", "LockObject"): ("File", "Registry", "CreateFolder", "ServiceInstall"),
    ("MsiLockPermissionsEx", "LockObject"): ("File", "Registry", "CreateFolder", "ServiceInstall"),
}
_IN_TEXT = re.compile(r"\[([#!$])([^\[\]]+)\]")
_TEXT_TABLE = {"#": "File", "!": "File", "$": "Component"}


def outgoing(database: Database, table: str) -> dict[str, tuple[str, ...]]:
    """The foreign keys of a table: column -> the tables whose key it may hold.

    Those that ``_Validation`` names come first.
    """
    found: dict[str, tuple[str, ...]] = {}
    for column in database.schema.get(table, []):
        if column.is_stream or not column.is_string or column.name == "Control_":  # that names half of a key
            continue
        said = [
            name.strip()
            for row in database["_Validation"].where(Table=table, Column=column.name)
            if row.get("KeyColumn") == 1
            for name in row.text("KeyTable").split(";")
            if name.strip() in database
        ]
        known = _NAMED.get((table, column.name))
        if known is None:
            plain = column.name.removesuffix("_")
            known = (plain,) if column.name.endswith("_") and plain in database and plain != table else ()
        tables = tuple(dict.fromkeys([*said, *(name for name in known if name in database)]))
        if tables:
            found[column.name] = tables
    return found


class RowLink(msgspec.Struct, frozen=True):
    """A row that another refers to: which, by which column, and ``in_text`` where it is named within a text."""

    table: str
    key: RowKey
    column: str
    in_text: bool = False


def _first(key: RowKey) -> TableCell:
    return key[0] if key else None


def refers_to(database: Database, table: str, key: RowKey) -> list[RowLink]:
    """The rows that a row refers to."""
    row = database[table].find(*key)
    if row is None:
        return []
    found = []
    for column, tables in outgoing(database, table).items():
        for other in tables:
            if row[column] is not None:
                found += [
                    RowLink(other, database[other].key_of(hit), column)
                    for hit in _by_first(database[other], row[column])
                ]
    for column_ in database[table].columns:
        if column_.is_string:
            for mark, name in _IN_TEXT.findall(row.text(column_.name)):
                if database[_TEXT_TABLE[mark]].find(name) is not None:
                    found.append(RowLink(_TEXT_TABLE[mark], (name,), column_.name, True))
    return found


def referred_by(database: Database, table: str, key: RowKey) -> list[RowLink]:
    """The rows that refer to a row: by their keys, and by ``[#file]`` or ``[$component]`` in a text."""
    wanted = _first(key)
    marks = [f"[{mark}{wanted}]" for mark, name in _TEXT_TABLE.items() if name == table]
    found = []
    for other in database.tables:
        if other.startswith("_"):
            continue
        rows = database[other]
        columns = [column for column, tables in outgoing(database, other).items() if table in tables]
        texts = [column.name for column in rows.columns if column.is_string] if marks else []
        if not columns and not texts:
            continue
        for row in rows:
            if other == table and rows.key_of(row) == key:
                continue
            for column in columns:
                if row[column] == wanted and _points(database, other, row, column, table):
                    found.append(RowLink(other, rows.key_of(row), column))
            found += [RowLink(other, rows.key_of(row), name, True) for name in texts if _names(row.get(name), marks)]
    return found


def _names(text: object, marks: Sequence[str]) -> bool:
    """Whether a text has one of the marks in it."""
    return isinstance(text, str) and "[" in text and any(mark in text for mark in marks)


def _points(database: Database, table: str, row: TableRow, column: str, target: str) -> bool:
    """Whether a column with several possible targets means this one: the first that has the row."""
    tables = outgoing(database, table)[column]
    if len(tables) == 1:
        return True
    value = row[column]
    return next((name for name in tables if next(_by_first(database[name], value), None) is not None), None) == target


def _by_first(table: Table, value: TableCell) -> Iterator[tuple[TableCell, ...]]:
    """The rows whose first key cell is ``value``."""
    keys = [at for at, column in enumerate(table.columns) if column.is_key]
    if len(keys) == 1:
        found = table.find(value)
        if found is not None:
            yield tuple(found)
        return
    for cells in table.cells:
        if keys and cells[keys[0]] == value:
            yield cells


# --- queries -----------------------------------------------------------------------------------------

_TERM = re.compile(r"\s*([A-Za-z_][\w.]*?)\s*(!=|<=|>=|=|<|>|!~|~|\?|!\?)\s*(.*)", re.S)


class Term(msgspec.Struct, frozen=True):
    """One condition of a query: ``Component_=Program``, ``FileSize>1000``, ``FileName~manual``, ``Condition?`` (is
    empty).
    """

    column: str
    operator: str
    value: str

    @classmethod
    def parse(cls, text: str) -> Term:
        """Raises Usage with the forms there are."""
        match = _TERM.fullmatch(text)
        if not match or (match[2] in ("?", "!?") and match[3]):
            raise Usage(
                f"{text!r} is no condition; write COLUMN=VALUE, != < > <= >= ~ (contains) !~ or COLUMN? (is empty), "
                "COLUMN!?"
            )
        return cls(match[1], match[2], match[3])

    def holds(self, cell: TableCell) -> bool:
        if self.operator in ("?", "!?"):
            return (cell is None) == (self.operator == "?")
        if self.operator in ("~", "!~"):
            return (self.value.lower() in str("" if cell is None else cell).lower()) == (self.operator == "~")
        if self.operator in ("=", "!="):
            return (str("" if cell is None else cell).lower() == self.value.lower()) == (self.operator == "=")
        try:
            one, other = (float(cell), float(self.value)) if cell is not None else (None, None)
        except ValueError:
            return False
        if one is None or other is None:
            return False
        return {"<": one < other, ">": one > other, "<=": one <= other, ">=": one >= other}[self.operator]


class ReferenceResult(msgspec.Struct, frozen=True):
    """What a query found: the names of its columns, and rows of cells."""

    columns: tuple[str, ...]
    rows: tuple[tuple[TableCell, ...], ...]


def _joined(database: Database, table: str, other: str) -> tuple[str, str]:
    """``(column of table, column of other)`` that must be equal. Raises Usage where nothing joins them."""
    for column, tables in outgoing(database, table).items():
        if other in tables:
            keys = [entry.name for entry in database[other].columns if entry.is_key]
            return column, keys[0]
    for column, tables in outgoing(database, other).items():
        if table in tables:
            keys = [entry.name for entry in database[table].columns if entry.is_key]
            return keys[0], column
    shared = [
        (one, two)
        for one, tables in outgoing(database, table).items()
        for two, more in outgoing(database, other).items()
        if set(tables) & set(more)
    ]
    if not shared:
        raise Usage(f"nothing joins {table} and {other}: neither refers to the other, nor both to a third")
    return shared[0]


def _with_others(database: Database, table: str, also: Sequence[str]) -> tuple[list[str], list[tuple[TableCell, ...]]]:
    """A table's columns and rows, with those of the others beside them."""
    names = [column.name for column in database[table].columns]
    rows: list[tuple[TableCell, ...]] = list(database[table].cells)
    for other in also:
        one, two = _joined(database, table, other)
        theirs = database[other]
        width, there = len(theirs.columns), [column.name for column in theirs.columns].index(two)
        found: dict[TableCell, list[tuple[TableCell, ...]]] = {}
        for cells in theirs.cells:
            found.setdefault(cells[there], []).append(cells)
        here = names.index(one)
        rows = [(*cells, *more) for cells in rows for more in found.get(cells[here], [(None,) * width])]
        names += [f"{other}.{column.name}" for column in theirs.columns]
    return names, rows


def _no_table(database: Database, name: str) -> Usage:
    import difflib

    near = difflib.get_close_matches(name, database.tables, 3, 0.5)
    hint = f"did you mean {' or '.join(near)}?" if near else "`yendo msi tables FILE` lists them"
    return Usage(f"the installer has no table {name}; {hint}")


def select(
    database: Database,
    table: str,
    terms: Sequence[Term] = (),
    *,
    also: Sequence[str] = (),
    columns: Sequence[str] = (),
    order: str | None = None,
) -> ReferenceResult:
    """The rows of ``table`` for which every term holds, with the columns of the tables in ``also`` beside them.

    A column of another table is called ``Table.Column``. Raises Usage for an unknown table or column.
    """
    for name in (table, *also):
        if name not in database:
            raise _no_table(database, name)
    names, rows = _with_others(database, table, also)
    index = {name.lower(): at for at, name in enumerate(names)}
    index |= {f"{table}.{name}".lower(): at for at, name in enumerate(names) if "." not in name}

    def at(column: str) -> int:
        if column.lower() not in index:
            raise Usage(f"no column {column} here; there are: {', '.join(names)}")
        return index[column.lower()]

    tests = [(at(term.column), term) for term in terms]
    kept = [cells for cells in rows if all(term.holds(cells[where]) for where, term in tests)]
    if order:
        by = at(order.lstrip("-"))
        numbers = all(isinstance(cells[by], (int, type(None))) for cells in kept)
        kept.sort(
            key=lambda cells: (cells[by] or 0) if numbers else str(cells[by] or ""), reverse=order.startswith("-")
        )  # type: ignore[arg-type,return-value]
    shown = [at(column) for column in columns] or list(range(len(names)))
    return ReferenceResult(
        tuple(names[where] for where in shown), tuple(tuple(cells[where] for where in shown) for cells in kept)
    )
