"""What every machine can do, whether simulated or real."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Literal, Protocol

import msgspec

from yendo.effects import Effect, Shortcut, State
from yendo.effects.things import Data
from yendo.evidence import Evidence
from yendo.facts.machine import Facts
from yendo.platforms.windows.surroundings import Account, Surroundings
from yendo.terms.rules import Rule

Place = Literal["real Windows", "API layer", "simulation", "stand-in", "nowhere"]


class Look(msgspec.Struct, frozen=True):
    """What a command that is over its time did within some moments: whether that is work, and in words."""

    busy: bool
    activity: str


class Ran(msgspec.Struct, frozen=True):
    """A command that ended: its full exit code (None when it was stopped for time), output, seconds, what was seen of
    it over its time.
    """

    exit_code: int | None
    output: str
    seconds: float
    looks: tuple[Look, ...] = ()


Value = tuple[str, Data]
"""A registry value: its type and its data, as in RegistryValue."""


NOT_WINDOWS = "the API layer is no Windows"


# Where what is tried is put on a machine, whichever machine it is.
BROUGHT = r"C:\Hand over"


class StagedSetup(Protocol):
    """The setup of the system on a machine that is staged. ``pending`` is the build at the next restart, ``goes_back``
    where it goes back instead (``0x30018``), ``held`` what its trial finds in the way.
    """

    pending: str
    goes_back: str
    held: str


class Staging(Protocol):
    """What can be done with a machine that is only simulated: it is put into any state, and people come to it.

    ``agrees`` are a person's answers, first to last; ``users`` the hives of people.
    """

    facts: Facts
    agrees: list[bool]
    users: list[str]

    @property
    def setup(self) -> StagedSetup: ...

    def someone_new(self) -> str:
        """Somebody logs on who never did; the name of their hive."""

    def first_log_on(self, someone: str) -> None:
        """What Windows starts once for whoever logs on."""

    def start_from_menu(self, someone: str) -> None:
        """Somebody starts everything that has an advertised shortcut."""


class Session(Protocol):
    """A machine that is nobody else's, from fresh to thrown away. Paths are Windows paths."""

    surroundings: Surroundings

    def bring(self, source: Path, target: str) -> None:
        """Copies a folder onto the machine. It is not part of what ``state`` reports."""

    def take_away(self, target: str) -> None:
        """Removes a folder that was brought, with all that is in it."""

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        """Runs a Windows command line and waits for its end, or stops it after ``timeout`` seconds.

        A ``patient`` run looks at one that is over its time, and gives it as long again while it is busy.
        """

    def state(self) -> State:
        """Everything on the machine now, its own noise left out."""

    def read(self, path: str) -> bytes | None:
        """A file's bytes, or None where there is none."""

    def write(self, path: str, data: bytes, *, private: bool = False) -> None:
        """Writes a file whose folder exists.

        Of a private one others cannot read anything, where the machine knows such rights.
        """

    def digest(self, path: str) -> str | None:
        """The SHA-256 of a file, or None where there is none; it is never held in memory whole."""

    def place(self, path: str, source: Path, sha256: str) -> None:
        """Makes a file the same as one of this computer, whose hash is known. Its folder exists."""

    def append(self, path: str, data: bytes) -> None:
        """Adds to the end of a file whose folder exists; makes it where there is none."""

    def remove(self, path: str) -> bool:
        """Removes a file; False where there was none."""

    def make_folder(self, path: str) -> bool:
        """Makes one folder; False where it was there."""

    def remove_folder(self, path: str) -> bool:
        """Removes a folder if it is empty; False where it stays."""

    def has_folder(self, path: str) -> bool: ...

    def is_running(self, name: str) -> bool:
        """Whether a program of this name, without ``.exe``, runs."""

    def open_program(self, name: str) -> None:
        """Opens some program under this name, without ``.exe``, as a person who works with it would."""

    def end_programs(self, name: str) -> None:
        """Ends programs at once, by the beginning of their name."""

    def close_program(self, name: str) -> bool:
        """Asks a program to close, by its name without ``.exe``; False where it does not run."""

    def restart(self) -> None:
        """Starts the machine anew, with what is to run at its start."""

    def lend(self, source: Path, target: str) -> None:
        """Lets a folder of a package be found at another place too."""

    @property
    def staging(self) -> Staging | None:
        """The machine as one that can be put into any state; None where it cannot."""

    # What only the runner itself can do on a real machine; there these raise NotCovered.

    @property
    def facts(self) -> Facts:
        """The machine at this moment, as far as it is known from outside."""

    def files_below(self, path: str) -> list[str]:
        """Every file below a folder, sorted."""

    def folders_below(self, path: str) -> list[str]:
        """Every folder below a folder."""

    def get_value(self, hive: str, view: str, key: str, name: str) -> Value | None: ...

    def set_value(self, hive: str, view: str, key: str, name: str, value: Value | None) -> None:
        """Sets a value of a key that exists, or takes it away."""

    def has_key(self, hive: str, view: str, key: str) -> bool: ...

    def make_key(self, hive: str, view: str, key: str) -> None:
        """Makes one key, whose parent exists."""

    def drop_key(self, hive: str, view: str, key: str) -> bool:
        """Removes a key if it is empty; False where it stays."""

    def keys_below(self, hive: str, view: str, key: str) -> list[str]:
        """A key and every key below it; none where it is not there."""

    def values_of(self, hive: str, view: str, key: str) -> list[str]:
        """The names of a key's values."""

    def user_hives(self) -> list[str]:
        """The hives of users, as keys of HKU."""

    def service_state(self, name: str) -> str:
        """``running``, ``stopped``, or nothing where there is no such service."""

    def related(self, upgrade_code: str) -> list[str]:
        """The codes of installed products with an upgrade code, in capitals."""

    def put_shortcut(self, link: Shortcut) -> None:
        """Makes a shortcut in a folder that exists."""

    def show(self, text: str) -> None:
        """Shows the person a message."""

    def answer(self, text: str) -> bool:
        """Asks the person, who agrees or not."""

    def make_hold(self, rules: tuple[Rule, ...], reverse: str) -> None:
        """Makes rules hold, on a machine that is only simulated, until the command line ``reverse`` is run."""


class Machine(Protocol):
    """A kind of machine. ``fresh`` gives a session and throws the machine away at its end."""

    name: str
    place: Place

    @property
    def label(self) -> str: ...

    @property
    def screens(self) -> bool:
        """Whether its programs run here, so that they can be shown on a screen of this computer."""

    @property
    def has_powershell(self) -> bool: ...

    @property
    def evidence(self) -> bool:
        """Whether what it shows is evidence of what Windows does; not where it is only simulated."""

    @property
    def not_windows(self) -> str:
        """Why it does not show what Windows itself does; empty where it is one."""

    @property
    def without_powershell(self) -> str:
        """What to do where it has none; empty where nothing helps."""

    def imitates(self, account: Account) -> str:
        """How an account is imitated; empty where it is the real one, or simulated as a whole."""

    @property
    def unanswered(self) -> frozenset[str]:
        """Kinds of rules that are asked of programs which do nothing here: no answer of theirs means anything."""

    def fresh(self, account: Account = "user") -> AbstractContextManager[Session]: ...

    def surroundings(self, account: Account = "user") -> Surroundings: ...

    def baseline(self, account: Account = "user") -> State:
        """The state of a fresh machine."""

    def shown(self, effects: Iterable[Effect]) -> tuple[list[Effect], dict[str, int]]:
        """Predicted effects as this machine shows them, and how often it differs from Windows, by the reason."""

    def leaves(self, effect: Effect, because: Evidence | None, *, empty: bool) -> str:
        """Why this machine leaves something behind that Windows takes away; empty where it does as Windows does.

        ``because`` is the evidence of what installed it; ``empty`` says that a folder holds nothing.
        """

    def unmended(self, *, patched: bool) -> str:
        """Why a repair on this machine does not put a file of a database back; empty where it does as Windows does.

        ``patched`` says that a patch was applied to the product.
        """

    def interrupt(self) -> None:
        """Ends what other threads are doing on machines of this kind, as soon as may be."""
