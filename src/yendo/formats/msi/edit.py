"""Row edits against a database that is never touched, each held to what its columns and code page take."""

from __future__ import annotations

from yendo.formats.msi.database import Column, Database, TableCell, TableRow
from yendo.formats.msi.schema import columns as standard_columns
from yendo.formats.msi.strings import codec_of
from yendo.formats.msi.transform import RowKey, TableChange


class DoesNotFit(ValueError):
    """A change that cannot be made: why, and what to do."""

    def __init__(self, message: str, remedy: str) -> None:
        super().__init__(message)
        self.message, self.remedy = message, remedy


class Edits:
    """Inserts, updates and deletes on ``base``, and its rows as they are with them.

    ``tables`` are the changes of a transform.
    """

    def __init__(self, base: Database) -> None:
        self.base = base
        self.tables: dict[str, TableChange] = {}
        self._codec = codec_of(base.code_page)

    def row(self, table: str, *key: TableCell) -> TableRow | None:
        """A row as it is with the edits so far."""
        change = self.tables.get(table)
        if change is not None:
            index = {column.name: at for at, column in enumerate(change.columns)}
            if key in change.inserted:
                return TableRow(change.inserted[key], index)
            if key in change.deleted:
                return None
        there = self.base[table].find(*key)
        if there is None or change is None or key not in change.updated:
            return there
        return TableRow(
            tuple(change.updated[key].get(column.name, there.get(column.name)) for column in change.columns), index
        )

    def rows(self, table: str, **wanted: TableCell) -> list[TableRow]:
        """The rows with these cells, as they are with the edits so far."""
        base, change = self.base[table], self.tables.get(table)
        touched = dict.fromkeys([*change.updated, *change.deleted, *change.inserted]) if change else {}
        target = tuple(wanted.values())
        hits = (
            [cells for cells, values in zip(base.cells, base.pick(*wanted), strict=True) if values == target]
            if wanted
            else base.cells
        )
        index = {column.name: at for at, column in enumerate(base.columns)}
        found = [TableRow(cells, index) for cells in hits if not touched or base.key_of(cells) not in touched]
        edited = [self.row(table, *key) for key in touched]
        return found + [
            row for row in edited if row is not None and all(row.get(name) == cell for name, cell in wanted.items())
        ]

    def key_of(self, table: str, row: TableRow) -> RowKey:
        """The key of a row of a table."""
        columns = self.tables[table].columns if table in self.tables else self.base[table].columns
        return tuple(row[column.name] for column in columns if column.is_key)

    def change(self, table: str) -> TableChange:
        """The changes to a table; one that the base lacks is created, with its standard columns."""
        if table not in self.tables:
            there = self.base.schema.get(table)
            columns = list(there) if there else [Column.parse(text) for text in standard_columns(table)]
            self.tables[table] = TableChange(columns, created=there is None)
        return self.tables[table]

    def _judge(self, table: str, column: Column, cell: TableCell) -> None:
        if not isinstance(cell, str):
            return
        try:
            cell.encode(self._codec)
        except UnicodeEncodeError:
            raise DoesNotFit(
                f"{table}.{column.name}: {cell!r} cannot be written in the installer's code page {self.base.code_page}",
                "use characters of that code page",
            ) from None
        if column.width and len(cell) > column.width:
            raise DoesNotFit(
                f"{table}.{column.name}: {cell[:40]!r} has {len(cell)} characters, the column takes {column.width}",
                "shorten it",
            )

    def insert(self, table: str, **given: TableCell) -> None:
        """Adds a row. Raises DoesNotFit."""
        change = self.change(table)
        cells = tuple(given.get(column.name) for column in change.columns)
        for column, cell in zip(change.columns, cells, strict=True):
            self._judge(table, column, cell)
        key = change.key_of(cells)
        if key in change.deleted:
            change.deleted.remove(key)
        if self.base[table].find(*key) is None:
            change.inserted[key] = cells
        else:  # the base has the row, so a transform can only change it
            self.update(
                table,
                key,
                **{column.name: cell for column, cell in zip(change.columns, cells, strict=True) if not column.is_key},
            )

    def update(self, table: str, key: RowKey, **given: TableCell) -> None:
        """Changes cells of a row; what is as it was is no change. Raises DoesNotFit."""
        change = self.change(table)
        for column in change.columns:
            if column.name in given:
                self._judge(table, column, given[column.name])
        if key in change.inserted:
            old = dict(zip([column.name for column in change.columns], change.inserted[key], strict=True))
            change.inserted[key] = tuple({**old, **given}[column.name] for column in change.columns)
        else:
            before = self.base[table].find(*key)
            changed = {name: cell for name, cell in given.items() if before is None or before.get(name) != cell}
            if changed:
                change.updated.setdefault(key, {}).update(changed)

    def delete(self, table: str, key: RowKey) -> None:
        """Takes a row away."""
        change = self.change(table)
        change.updated.pop(key, None)
        if change.inserted.pop(key, None) is None and key not in change.deleted:
            change.deleted.append(key)
