"""Where the runner keeps what it knows on a machine: folders below the plan's ``log.state``, the same in both runners.

Every path is as the plan writes it, with variables; whoever asks a machine puts them in.
"""

from __future__ import annotations

JOURNAL, RECORD, POSTPONED, SETTINGS, MODE = (
    "journal.txt", "record.txt", "postponed.txt", "settings.txt", "install-mode.txt",
)  # fmt: skip
FACTS, VENDOR_LOGS = "facts", "logs"


def kept(home: str, identifier: str) -> str:
    """The package itself, as it lies there until it is removed."""
    return rf"{home}\packages\{identifier}"


def state(home: str, identifier: str, name: str = "") -> str:
    """The folder of one package's journal, record, settings and facts, or a file of it."""
    return rf"{home}\state\{identifier}" + (f"\\{name}" if name else "")


def states(home: str) -> str:
    return rf"{home}\state"


def mark(home: str, identifier: str) -> str:
    """The file that says that a package is installed."""
    return rf"{home}\installed\{identifier}.txt"


def marks(home: str) -> str:
    return rf"{home}\installed"


def needed(home: str, identifier: str) -> str:
    """The folder where packages note that they need another."""
    return rf"{home}\needed\{identifier}"


def all_needed(home: str) -> str:
    return rf"{home}\needed"
