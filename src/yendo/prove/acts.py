"""What a proof kit will do, found beforehand: a scenario is played on the simulated machine, and what it asks of a
machine is written down as acts.

What a scenario decides by what it sees (which file is damaged, which programs are started) is decided by what the
simulated machine shows. Where a real one shows something else, the judge says so.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from yendo.effects import State
from yendo.errors import NotCovered, Usage, YendoError
from yendo.machines.outside import OPENED_WITHIN, opening
from yendo.machines.protocol import Ran, Session
from yendo.machines.recorded.observed import WORK
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import carry
from yendo.platforms.windows import paths
from yendo.platforms.windows.exit_codes import DONE
from yendo.platforms.windows.surroundings import Account
from yendo.prove.proof import UNCOVERED
from yendo.prove.scenarios import Scenario
from yendo.prove.stage import DETECTION_LIMIT, Stage, values_text

PACKAGE = paths.join(WORK, "package")
_SMALL = 1 << 20  # bytes of a file whose content is asked for

Act = tuple[str, ...]
"""Its name and its fields, as the kit's script takes them."""


class NotByKit(Usage):
    """A scenario that no kit plays for this package; ``why`` in words."""

    def __init__(self, scenario: str, why: str, who: str = "a kit does not play") -> None:
        super().__init__(f"{who} {scenario}: {why}")
        self.why = why


class KitActs(msgspec.Struct):
    """The acts of a scenario, and what the kit brings for them: folders and contents by their names in it."""

    acts: list[Act]
    folders: dict[str, Path]
    contents: dict[str, bytes]


def acts_of(package: Path, scenario: Scenario, site: str, *, idle: int) -> KitActs:
    """What a kit does for a scenario. Raises NotByKit where it is none that a kit can play."""
    found = KitActs([("look",)], {}, {})
    if idle:
        found.acts += [("idle", str(idle)), ("look",)]
    stage = _Stage(package, _Machine(found), scenario.account, site)
    if reason := scenario.calls_for(stage.manifest):
        raise NotByKit(scenario.id, reason, "the package does not call for")
    if scenario.bare:
        raise NotByKit(scenario.id, "it cannot take a prerequisite off a machine")
    with contextlib.suppress(NotCovered):
        scenario.play(stage)
    refused = [phase.found for phase in stage.phases if phase.outcome == "not executed" and phase.id != UNCOVERED]
    if not any(act[0] == "verb" for act in found.acts):
        raise NotByKit(scenario.id, "; ".join(refused) or "it does nothing on a machine")
    if stage.machine.visits > 1:
        raise NotByKit(scenario.id, "the machine would have to be put back in the middle, as over SSH")
    return found


class _Machine:
    """The simulated machine, as one of which nobody knows what it is: a scenario takes the way of a real one."""

    name, place, label, has_powershell = "kit", "nowhere", "a kit", False
    evidence, not_windows = True, ""
    unanswered: frozenset[str] = frozenset()

    def __init__(self, found: KitActs) -> None:
        self.found, self.inner, self.visits = found, SimulatedMachine(), 0

    def __getattr__(self, name: str) -> Any:
        return getattr(self.inner, name)

    @contextlib.contextmanager
    def fresh(self, account: Account = "user") -> Iterator[_Session]:
        self.visits += 1
        with self.inner.fresh(account) as session:
            yield _Session(self.found, session)


class _Session:
    """Writes down what changes the machine or looks at it; everything else is the simulated one's own."""

    staging = None

    def __init__(self, found: KitActs, inner: Any) -> None:
        self.found, self.inner = found, inner

    def __getattr__(self, name: str) -> Any:
        return getattr(self.inner, name)

    def _act(self, *act: str) -> None:
        self.found.acts.append(act)

    def bring(self, source: Path, target: str) -> None:
        number = f"brought\\{len(self.found.folders) + 1}"
        self.found.folders[number] = source
        self._act("copy", f"kit:{number}", target)
        self.inner.bring(source, target)

    def take_away(self, target: str) -> None:
        self._act("remove-tree", target)
        self.inner.take_away(target)

    def write(self, path: str, data: bytes, *, private: bool = False) -> None:
        number = paths.join("brought", f"content{len(self.found.contents) + 1}.bin")
        self.found.contents[number] = data
        self._act("place", f"kit:{number}", path, "private" if private else "")
        self.inner.write(path, data, private=private)

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        self._act("run", f"{timeout:g}", folder or "", command)
        ran = Ran(0, "", 0.0)
        with contextlib.suppress(YendoError):
            ran = self.inner.run(command, timeout=timeout, folder=folder)
        return ran

    def remove(self, path: str) -> bool:
        self._act("remove", path)
        return bool(self.inner.remove(path))

    def read(self, path: str) -> bytes | None:
        data: bytes | None = self.inner.read(path)
        if data is None or len(data) <= _SMALL:
            self._act("fetch", path)
        return data

    def end_programs(self, name: str) -> None:
        self._act("end", name)
        self.inner.end_programs(name)

    def open_program(self, name: str) -> None:
        self._act("run", f"{OPENED_WITHIN:g}", "", opening(name))
        self.inner.open_program(name)

    def is_running(self, name: str) -> bool:
        self._act("running", name)
        return bool(self.inner.is_running(name))

    def state(self) -> State:
        if self.found.acts[-1] != ("look",):
            self._act("look")
        found: State = self.inner.state()
        return found


class _Stage(Stage):
    """Verbs and the detection script become acts; what the simulated machine makes of them decides nothing."""

    machine: Any

    def __init__(self, package: Path, machine: Any, account: Account, site: str) -> None:
        super().__init__(package, machine, account, lambda title: None, (), site)
        self.folder = PACKAGE

    def bring(self, session: Session) -> None:
        recorded: Any = session
        if self.folder != PACKAGE:  # there it lies already
            recorded.found.acts.append(("copy", "kit:package", self.folder))
        if self.made_up:
            name = paths.join("brought", "values.txt")
            recorded.found.contents[name] = values_text(self.made_up)
            recorded.found.acts.append(("place", f"kit:{name}", self.values_file, "private"))
        recorded.inner.bring(self.package, self.folder)

    @property
    def values_file(self) -> str:
        return paths.join(WORK, "values.txt")

    def verb(self, session: Session, verb: str) -> carry.Carried:
        recorded: Any = session
        recorded.found.acts.append(("verb", verb, self.folder, self.options))
        try:
            carried = super().verb(recorded.inner, verb)
        except NotCovered:  # what cannot be simulated may be carried out all the same
            return carry.Carried(0, (), ())
        return carried if carried.exit_code in DONE else msgspec.structs.replace(carried, exit_code=0)

    def script_says(self, session: Session) -> tuple[bool | None, str]:
        recorded: Any = session
        recorded.found.acts.append(("detect", f"{DETECTION_LIMIT:g}", "", self.detection_line))
        return None, ""

    def detection(self, session: Session, *_: Any, **__: Any) -> bool:
        super().detection(session, *_, **__)  # the files that rules ask for are fetched
        return True

    def compare(self, *_: Any) -> None:
        """Nothing: what is foreseen is compared with what is brought back."""

    def withheld(self, *_: Any) -> None:
        """Nothing: logs come back with every verb."""
