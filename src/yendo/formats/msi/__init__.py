"""The installer database: names, strings, tables, summary information.

``Database`` reads one, ``DatabaseWriter`` writes one. What the tables mean is not known here.
"""

from yendo.formats.msi.database import Column, Database, Table, TableRow
from yendo.formats.msi.summary import Summary
from yendo.formats.msi.writer import DatabaseWriter

__all__ = ["Column", "Database", "DatabaseWriter", "Summary", "Table", "TableRow"]
