"""Holds a database to its own ``_Validation`` table, to the standard columns, and to the component rules."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence

import msgspec

from yendo.evidence import Evidence, row
from yendo.formats.msi import Database
from yendo.formats.msi.database import Column, TableCell, TableRow
from yendo.formats.msi.schema import SCHEMA
from yendo.formats.msi.schema import columns as standard_columns
from yendo.installers.msi.actions import STANDARD, WITHOUT_EFFECT
from yendo.installers.msi.session import long_name

MAX_FINDINGS = 2000
_GUID = re.compile(r"\{[0-9A-F]{8}(-[0-9A-F]{4}){3}-[0-9A-F]{12}\}")
_IDENTIFIER = re.compile(r"[A-Za-z_][A-Za-z0-9_.]*")
_PROPERTY = re.compile(r"%?[A-Za-z_][A-Za-z0-9_.]*")
_VERSION = re.compile(r"\d{1,5}(\.\d{1,5}){0,3}")
_BAD_NAME = re.compile(r'[\\?><:/*"\x00-\x1f]')
_SHORT = re.compile(r'[^\s\\?|><:/*"+,;=\[\].]{1,8}(\.[^\s\\?|><:/*"+,;=\[\].]{0,3})?')

# Source: "Column Data Types". Text that may hold references is not held to the form it resolves to.
_FORMS: dict[str, tuple[Callable[[str], bool], str]] = {
    "guid": (lambda text: bool(_GUID.fullmatch(text)), "is no identifier {XXXXXXXX-...} in upper case"),
    "identifier": (
        lambda text: bool(_IDENTIFIER.fullmatch(text)),
        "is no identifier: letters, digits, underscores and dots only",
    ),
    "property": (lambda text: bool(_PROPERTY.fullmatch(text)), "is no property's name"),
    "version": (lambda text: bool(_VERSION.fullmatch(text)) or bool(_IDENTIFIER.fullmatch(text)), "is no version"),
    "uppercase": (lambda text: text == text.upper(), "is not in upper case"),
    "lowercase": (lambda text: text == text.lower(), "is not in lower case"),
    "filename": (
        lambda text: not _BAD_NAME.search(text) and bool(_SHORT.fullmatch(text.partition("|")[0])),
        "is no SHORT.EXT or SHORT.EXT|long name",
    ),
    "integer": (lambda text: True, ""),
}


class ValidationFinding(msgspec.Struct, frozen=True):
    """One row that breaks a rule: which rule, the row, the column, and what is wrong with it."""

    rule: str
    severity: str  # error, or warning where the Windows Installer gets by
    evidence: Evidence
    column: str
    message: str


def validate(database: Database) -> list[ValidationFinding]:
    """Every finding, tables in their order, cut off at a bounded number."""
    found: list[ValidationFinding] = []
    for check in (_cells, _keys, component_rules, _sequences, _media):
        for finding in check(database):
            found.append(finding)
            if len(found) >= MAX_FINDINGS:
                return found
    return found


def _where(database: Database, table: str, cells: tuple[TableCell, ...]) -> Evidence:
    return row(table, *database[table].key_of(cells))


def _said(database: Database) -> dict[tuple[str, str], TableRow]:
    return {(entry.text("Table"), entry.text("Column")): entry for entry in database["_Validation"]}


def _cells(database: Database) -> Iterator[ValidationFinding]:
    """Every cell: null, range, set, form, width."""
    said = _said(database)
    for table in database.tables:
        if table.startswith("_"):
            continue
        standard = (
            {column.name: column for column in map(Column.parse, standard_columns(table))} if table in SCHEMA else {}
        )
        for at, column in enumerate(database[table].columns):
            if said and (table, column.name) not in said and table in SCHEMA:
                yield ValidationFinding(
                    "not-described",
                    "warning",
                    Evidence("row", f"_Validation[{table}, {column.name}]"),
                    column.name,
                    "the column is not described",
                )
            judge = _judge_of(column, said.get((table, column.name)), standard.get(column.name))
            for cells in database[table].cells:
                for rule, severity, message in judge(cells[at]):
                    yield ValidationFinding(rule, severity, _where(database, table, cells), column.name, message)


def _judge_of(
    column: Column, described: TableRow | None, standard: Column | None
) -> Callable[[TableCell], Sequence[tuple[str, str, str]]]:
    nullable = described.text("Nullable").upper() == "Y" if described is not None else column.is_nullable
    low, high = (described.get("MinValue"), described.get("MaxValue")) if described is not None else (None, None)
    category = described.text("Category").lower() if described is not None else ""
    allowed = (
        {part.strip() for part in described.text("Set").split(";") if part.strip()} if described is not None else set()
    )
    form = _FORMS.get(category)
    most = column.width if column.is_string and column.width else None
    ranged = (low is not None or high is not None) and not column.is_stream

    def judge(cell: TableCell) -> Sequence[tuple[str, str, str]]:
        if isinstance(cell, str) and not form and not allowed and (most is None or len(cell) <= most):
            return ()
        if isinstance(cell, int) and not ranged and not allowed:
            return ()
        return tuple(closely(cell))

    def closely(cell: TableCell) -> Iterator[tuple[str, str, str]]:
        if cell is None:
            if not nullable and not column.is_stream:
                yield "null", "error", "may not be empty"
            return
        if most is not None and len(str(cell)) > most:
            yield "too-long", "error", f"has {len(str(cell))} characters, the column takes {column.width}"
        if isinstance(cell, int) and not column.is_stream and not allowed:
            if isinstance(low, int) and cell < low and (not isinstance(high, int) or high >= low):
                yield "out-of-range", "error", f"is {cell}, at least {low} is allowed"
            if isinstance(high, int) and cell > high and (not isinstance(low, int) or high >= low):
                yield "out-of-range", "error", f"is {cell}, at most {high} is allowed"
        if allowed and str(cell) not in allowed:
            outside = isinstance(cell, int) and isinstance(low, int) and isinstance(high, int) and low <= cell <= high
            if not outside:
                yield "not-in-set", "error", f"is {str(cell)[:40]!r}; allowed are {', '.join(sorted(allowed)[:12])}"
        if form and isinstance(cell, str) and "[" not in cell and not form[0](cell):
            yield "form", "error", f"{cell[:60]!r} {form[1]}"

    return judge


def _keys(database: Database) -> Iterator[ValidationFinding]:
    """Keys that are there twice, and foreign keys that lead nowhere."""
    from yendo.installers.msi.references import outgoing

    said = _said(database)
    for table in database.tables:
        if table.startswith("_"):
            continue
        rows = database[table]
        if len(rows._by_key) != len(rows):
            twice = [key for key, count in Counter(rows.key_of(cells) for cells in rows.cells).items() if count > 1]
            for key in twice:
                yield ValidationFinding("key-twice", "error", row(table, *key), "", "the key is there more than once")
        for column, targets in outgoing(database, table).items():
            if (table, column) in _LOOSE or (
                (table, column) not in said and (table, column) not in _HARD and not column.endswith("_")
            ):
                continue
            there = {key[0] for target in targets for key in database[target]._by_key}
            at = [entry.name for entry in rows.columns].index(column)
            for cells in rows.cells:
                if cells[at] is not None and cells[at] not in there:
                    yield ValidationFinding(
                        "no-such-row",
                        "error",
                        _where(database, table, cells),
                        column,
                        f"names {str(cells[at])[:60]!r}, which {' and '.join(targets)} lacks",
                    )


_LOOSE = {
    ("CustomAction", "Source"),
    ("InstallExecuteSequence", "Action"),
    ("InstallUISequence", "Action"),
    ("Shortcut", "Target"),
}
_LOOSE |= {
    ("RemoveFile", "DirProperty"),
    ("IniFile", "DirProperty"),
    ("DuplicateFile", "DestFolder"),
    ("MoveFile", "SourceFolder"),
    ("MoveFile", "DestFolder"),
}
_LOOSE |= {
    ("Shortcut", "WkDir"),
    ("RemoveIniFile", "DirProperty"),
    *((table, "Signature_") for table in ("AppSearch", "RegLocator", "DrLocator", "CompLocator", "IniLocator")),
    ("Class", "ProgId_Default"),
}
_HARD = {("Component", "KeyPath"), ("Directory", "Directory_Parent"), ("Feature", "Feature_Parent")}


def component_rules(database: Database) -> Iterator[ValidationFinding]:
    """What holds components together.

    Source: "Organizing Applications into Components" and "Changing the Component Code".
    """
    features: dict[str, list[str]] = defaultdict(list)
    for feature, component in database["FeatureComponents"].pick("Feature_", "Component_"):
        features[component].append(feature)
    files: dict[str, set[str]] = defaultdict(set)
    for key, component in database["File"].pick("File", "Component_"):
        files[component].add(key)
    registry = {entry.text("Registry"): entry.text("Component_") for entry in database["Registry"]}
    by_code: dict[str, list[TableRow]] = defaultdict(list)
    for entry in database["Component"]:
        name, where, key = entry.text("Component"), row("Component", entry.text("Component")), entry.text("KeyPath")
        if name not in features:
            yield ValidationFinding(
                "without-feature", "error", where, "", "belongs to no feature, so it is never installed"
            )
        if entry.text("ComponentId"):
            by_code[entry.text("ComponentId").upper()].append(entry)
            if not _GUID.fullmatch(entry.text("ComponentId")):
                yield ValidationFinding(
                    "form",
                    "error",
                    where,
                    "ComponentId",
                    f"{entry.text('ComponentId')!r} is no identifier in upper case",
                )
        elif files.get(name):
            yield ValidationFinding(
                "no-identifier",
                "warning",
                where,
                "ComponentId",
                "has no identifier: it is never counted and never removed",
            )
        flags = entry.number("Attributes")
        if key and flags & 4 and registry.get(key) != name:
            yield ValidationFinding(
                "key-path", "error", where, "KeyPath", f"{key} is no registry value of this component"
            )
        elif key and not flags & (4 | 32) and key not in files.get(name, set()):
            yield ValidationFinding("key-path", "error", where, "KeyPath", f"{key} is no file of this component")
        programs = [file for file in files.get(name, ()) if _is_program(database, file)]
        if len(programs) > 1:
            some = ", ".join(sorted(programs)[:3])
            yield ValidationFinding(
                "many-programs",
                "warning",
                where,
                "",
                f"holds {len(programs)} programs or libraries ({some}); repair looks at the key path alone",
            )
    yield from _identifiers_twice(by_code)
    yield from _same_place(database)


def _identifiers_twice(by_code: Mapping[str, Sequence[TableRow]]) -> Iterator[ValidationFinding]:
    for code, owners in by_code.items():
        if len(owners) > 1 and not all(owner.text("Condition") for owner in owners):
            names = ", ".join(owner.text("Component") for owner in owners)
            yield ValidationFinding(
                "identifier-twice",
                "error",
                row("Component", owners[1].text("Component")),
                "ComponentId",
                f"{code} stands for {names}",
            )


def _is_program(database: Database, file: str) -> bool:
    found = database["File"].find(file)
    return found is not None and long_name(found.text("FileName")).lower().endswith((".exe", ".dll", ".ocx"))


def _same_place(database: Database) -> Iterator[ValidationFinding]:
    """Two components that install the same file: each removes the other's."""
    folders = dict(database["Component"].pick("Component", "Directory_"))
    conditions = dict(database["Component"].pick("Component", "Condition"))
    seen: dict[tuple[str, str], tuple[str, str]] = {}
    for key, component, named in database["File"].pick("File", "Component_", "FileName"):
        place = (folders.get(component, ""), long_name(named).lower())
        other = seen.setdefault(place, (key, component))
        if other[1] != component and not (conditions.get(component) and conditions.get(other[1])):
            yield ValidationFinding(
                "same-place",
                "error",
                row("File", key),
                "FileName",
                f"installs {long_name(named)} where {other[0]} of component {other[1]} does",
            )


def _sequences(database: Database) -> Iterator[ValidationFinding]:
    for table in ("InstallExecuteSequence", "InstallUISequence", "AdminExecuteSequence"):
        dialogs = {entry.text("Dialog") for entry in database["Dialog"]}
        for entry in database[table]:
            name = entry.text("Action")
            if (
                name not in STANDARD
                and name not in WITHOUT_EFFECT
                and name not in dialogs
                and database["CustomAction"].find(name) is None
            ):
                yield ValidationFinding(
                    "no-such-action",
                    "warning",
                    row(table, name),
                    "Action",
                    "is neither a standard action nor a custom one",
                )


def _media(database: Database) -> Iterator[ValidationFinding]:
    last = [(entry.number("LastSequence"), entry) for entry in database["Media"]]
    top = max((number for number, _ in last), default=0)
    for key, number in database["File"].pick("File", "Sequence"):
        if isinstance(number, int) and number > top:
            yield ValidationFinding(
                "no-medium", "error", row("File", key), "Sequence", f"is number {number}; the last medium ends at {top}"
            )
    for _, entry in last:
        cabinet = entry.text("Cabinet")
        if cabinet.startswith("#") and database.stream(cabinet[1:]) is None:
            yield ValidationFinding(
                "no-such-cabinet",
                "error",
                row("Media", entry["DiskId"]),
                "Cabinet",
                f"{cabinet[1:]} is not in the database",
            )


def broken_by(base: Database, after: Database) -> list[ValidationFinding]:
    """The findings that ``after`` has and ``base`` has not: what a change breaks."""

    def mark(finding: ValidationFinding) -> tuple[str, str, str]:
        return finding.rule, finding.evidence.where, finding.column

    known = {mark(finding) for finding in validate(base)}
    return [finding for finding in validate(after) if mark(finding) not in known]
