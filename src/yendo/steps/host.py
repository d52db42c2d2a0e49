"""A machine as a step sees it: every change goes through here, and is written down before it is made.

The runner's own functions (``apply.ps1``) are the same in the other language; tests hold the two together.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path

import msgspec

from yendo.detect.evaluate import judge as judge_rule
from yendo.detect.evaluate import sight_of
from yendo.effects.things import Shortcut, parent
from yendo.errors import NotCovered
from yendo.facts import secrets
from yendo.machines.protocol import Ran, Session
from yendo.platforms.windows.surroundings import expand
from yendo.steps import home as layout
from yendo.steps import ledger
from yendo.steps.action import DONE, Action, MsiData, Result
from yendo.steps.ledger import NOTHING, RegistryData
from yendo.steps.neighbours import Neighbours
from yendo.terms import events
from yendo.terms.rules import Rule
from yendo.terms.when import Judged, Node, judge
from yendo.texts import text_of

BUSY_WAIT, BUSY_TRIES = 30, 10  # seconds and times, while another installation runs
TIMED_OUT, STEP_FAILED, NEEDED = 22, 23, 34
HOME = r"%ProgramFiles%\Yendo"  # ordinary users cannot write its parent, so nobody can make it first


def signed(code: int) -> int:
    """An exit code as a signed number of 32 bits, as the runner sees it."""
    return code - (1 << 32) if code >= 1 << 31 else code


def latest(lines: list[str]) -> int:
    """Where the latest run begins in a record."""
    return max((at for at, line in enumerate(lines) if line == "B"), default=0)


class Host:
    """One machine, for one package. ``package`` is the built package here, ``folder`` where it lies on the machine."""

    def __init__(
        self,
        session: Session,
        identifier: str,
        package: Path,
        folder: str,
        *,
        hidden: tuple[str, ...] = (),
        logs: str = "",
        home: str = HOME,
    ) -> None:
        self.session, self.identifier, self.package, self.folder, self.hidden = (
            session,
            identifier,
            package,
            folder,
            hidden,
        )
        self.environment = session.surroundings.environment
        self.logs = self.expand(logs)
        self.home = home
        self.room = self.expand(layout.state(home, identifier))
        self.ledger_file = rf"{self.room}\{layout.RECORD}"
        # of the vendor's programs, until they are published beside the runner's own
        self.vendor_logs = rf"{self.room}\{layout.VENDOR_LOGS}"
        self.step = 0  # the one at work, from 1
        self.told: list[tuple[int, events.Event]] = []  # what happened, each with its step
        self._record: list[str] | None = None  # the record as it is on the machine; nobody else writes it meanwhile
        self._of_run: set[str] = set()
        self._torn = False
        self.everybodys = False  # the step at work is in every package of the office
        self.seconds = 0.0
        self.sleep: Callable[[float], object] = time.sleep
        self.carry_other: Callable[[str, str, Mapping[str, str], str], int] | None = (
            None  # a verb of the package in a folder of this one, with values
        )
        self.restart_asked = False  # by a step of this run, since the last start of the machine

    def expand(self, text: str) -> str:
        return expand(text, self.environment)

    def tell(self, event: events.Event) -> None:
        self.told.append((self.step, events.with_texts(event, lambda text: secrets.mask(text, self.hidden))))

    def content(self, name: str) -> bytes:
        """A file of the package."""
        return (self.package / name).read_bytes()

    # --- the record ----------------------------------------------------------------------------

    def recorded(self) -> list[str]:
        return list(self._lines())

    def _lines(self) -> list[str]:
        """The record's lines as they are kept: read once, since each thing that is placed asks for them."""
        if self._record is None:
            data = self.session.read(self.ledger_file)
            lines = data.decode("utf-8", "replace").split("\r\n") if data else [""]
            self._torn = bool(lines.pop())  # a last line that was cut off does not count
            self._record = lines
            self._of_run = set(lines[latest(lines) :])
        return self._record

    def remember(self, kind: str, *fields: str) -> None:
        """Writes a line, unless this run has written it already."""
        record = self._lines()
        new = ledger.line(kind, *fields)
        if new in self._of_run and kind != "B":
            return
        self.own_folders(self.room)
        if self._torn:
            self.session.write(self.ledger_file, "".join(f"{line}\r\n" for line in [*record, new]).encode())
        else:
            self.session.append(self.ledger_file, f"{new}\r\n".encode())
        self._torn = False
        record.append(new)
        if kind == "B":
            self._of_run = {new}
        else:
            self._of_run.add(new)

    def found_so(self, kind: str, *fields: str) -> None:
        """Writes down that what every package of the office places is there already: it is needed by one more.

        What is only taken away again, a command's work or an entry, is that of another package, or not to be removed.
        """
        if self.everybodys and (kind in "FV" or Neighbours(self).have([kind, *fields])):
            self.remember(kind, *fields)

    def forget(self, count: int) -> None:
        """Keeps the first lines of the record only; without any, neither the record nor what was kept aside."""
        lines = self.recorded()
        kept = lines[:count]
        self._record = None
        if kept:
            self.session.write(self.ledger_file, "".join(f"{line}\r\n" for line in kept).encode())
            return
        aside = {field for line in lines for field in ledger.fields(line)[1:3] if line[0] in "FX"}
        self.session.remove(self.ledger_file)
        for name in sorted(aside):
            self.session.remove(rf"{self.room}\kept\{name}")
        self.session.remove_folder(rf"{self.room}\kept")

    def own_folders(self, path: str) -> None:
        """Folders of the runner's own, which are no part of the record."""
        if not self.session.has_folder(path) and "\\" in path:
            self.own_folders(parent(path))
            self.session.make_folder(path)

    def keep(self, data: bytes) -> str:
        """Keeps what was there, and returns its hash."""
        name = hashlib.sha256(data).hexdigest()
        path = rf"{self.room}\kept\{name}"
        if self.session.read(path) is None:
            self.own_folders(parent(path))
            self.session.write(path, data)
        return name

    # --- files and folders -----------------------------------------------------------------------

    def folders(self, path: str) -> None:
        if self.session.has_folder(path) or "\\" not in path:
            return
        self.folders(parent(path))
        self.remember("D", path)
        self.session.make_folder(path)

    def put(self, path: str, data: bytes) -> bool:
        """Makes a file this one; False where it was so."""
        there = self.session.read(path)
        if there == data:
            self.found_so("F", *[hashlib.sha256(data).hexdigest()] * 2, path)
            return False
        self.folders(parent(path))
        self.remember("F", hashlib.sha256(data).hexdigest(), NOTHING if there is None else self.keep(there), path)
        self.session.write(path, data)
        return True

    def put_file(self, path: str, source: Path, sha256: str) -> bool:
        """The same with a file of the package, which may be large."""
        there = self.session.digest(path)
        if there == sha256:
            self.found_so("F", sha256, sha256, path)
            return False
        self.folders(parent(path))
        self.remember("F", sha256, NOTHING if there is None else self.keep(self.session.read(path) or b""), path)
        self.session.place(path, source, sha256)
        return True

    def put_shortcut(self, link: Shortcut) -> None:
        """Makes a shortcut; nothing where it is so."""
        data = msgspec.json.encode(link)
        there = self.session.read(link.path)
        if there != data:
            self.folders(parent(link.path))
            self.remember(
                "F", hashlib.sha256(data).hexdigest(), NOTHING if there is None else self.keep(there), link.path
            )
            self.session.put_shortcut(link)
        else:
            self.found_so("F", *[hashlib.sha256(data).hexdigest()] * 2, link.path)

    def drop(self, path: str, *, keep: bool = True) -> bool:
        there = self.session.read(path) if keep else None
        if there is not None:
            self.remember("X", self.keep(there), path)
        gone = self.session.remove(path)
        if gone and keep and there is None:
            raise NotCovered(f"{path} cannot be kept aside here: a program placed it, and what is in it is not known")
        return gone

    # --- the registry --------------------------------------------------------------------------------

    def set_value(self, hive: str, view: str, key: str, name: str, value: RegistryData | None) -> bool:
        """Sets a value, or takes it away where it is None; False where it was so."""
        before = self.session.get_value(hive, view, key, name)
        if before == value:
            self.found_so("V", *[ledger.value_text(value)] * 2, hive, view, key, name)
            return False
        if value is not None:
            self.keys(hive, view, key)
        self.remember("V", ledger.value_text(value), ledger.value_text(before), hive, view, key, name)
        self.session.set_value(hive, view, key, name, value)
        return True

    def add_entry(self, entry: str, hive: str, view: str, key: str, name: str, whole: RegistryData) -> bool:
        """Sets a list of entries to one that has this too; others may change the rest of it meanwhile."""
        line = (entry, hive, view, key, name)
        if self.session.get_value(hive, view, key, name) == whole:
            self.found_so("P", *line)
            return False
        self.keys(hive, view, key)
        self.remember("P", *line)
        self.session.set_value(hive, view, key, name, whole)
        return True

    def drop_keys(self, hive: str, view: str, key: str) -> None:
        """Takes a key away with all below it; its values can be put back."""
        for inner in sorted(self.session.keys_below(hive, view, key), key=lambda name: (-name.count("\\"), name)):
            for name in self.session.values_of(hive, view, inner):
                self.set_value(hive, view, inner, name, None)
            self.session.drop_key(hive, view, inner)

    def keys(self, hive: str, view: str, key: str) -> None:
        if not key or self.session.has_key(hive, view, key):
            return
        self.keys(hive, view, parent(key))
        self.remember("K", hive, view, key)
        self.session.make_key(hive, view, key)

    # --- commands ------------------------------------------------------------------------------------------

    def run(self, action: Action) -> Result:
        """A step's command line, tried again while another installation runs, and then whatever goes on after it."""
        self.own_folders(self.vendor_logs)
        try:
            return self._run(action)
        finally:
            self.publish_logs()

    def publish_logs(self) -> None:
        """Puts what the vendor's programs have logged beside the runner's own log."""
        try:
            files = self.session.files_below(self.vendor_logs)
        except NotCovered:
            return
        for path in files:
            target = self.logs + path[len(self.vendor_logs) :]
            self.own_folders(parent(target))
            self.session.write(target, self.session.read(path) or b"")
            self.session.remove(path)

    def _run(self, action: Action) -> Result:
        # without the package's own runner there is no way beside the command line
        told = MsiData.of(action).hidden if action.kind == "msi" else None
        hidden = told.secret if told else ""
        line = self.expand(
            f"{action.command} {hidden}".strip().replace("{package}", self.folder).replace("{logs}", self.vendor_logs)
        )
        if action.reverse:
            self.remember("U", action.reverse)
        folder = self.expand(action.folder.replace("{package}", self.folder)) if action.folder else self.folder
        for attempt in range(BUSY_TRIES):
            if attempt:
                self.sleep(BUSY_WAIT)
            self.tell(events.CommandBegan(line))
            ran = self.session.run(line, timeout=action.timeout, folder=folder, patient=True)
            self.seconds += ran.seconds
            self.over_time(ran)
            if ran.exit_code is None:
                self.tell(events.CommandStopped(action.timeout))
                return Result("timed out", TIMED_OUT)
            code = signed(ran.exit_code)
            meaning = self.meaning(action.codes, code)
            if meaning != "again later":
                break
        until = time.monotonic() + action.timeout
        for name in action.wait_for:
            if self.session.is_running(name):
                self.tell(events.WaitingFor(name))
            while self.session.is_running(name):
                if time.monotonic() > until:
                    self.tell(events.WaitedTooLong(name, action.timeout))
                    return Result("timed out", TIMED_OUT)
                self.sleep(0.2)
        return Result(meaning, code)

    def over_time(self, ran: Ran) -> None:
        """Tells what was seen of a command over its time: work, and in the end none, or too much of it."""
        *busy, last = ran.looks or (None,)
        for look in busy:
            self.tell(events.CommandOverTime(look.activity))
        if last is not None and ran.exit_code is not None:
            self.tell(events.CommandOverTime(last.activity))
        elif last is not None:
            self.tell(events.CommandTwiceOverTime(last.activity) if last.busy else events.CommandIdle(last.activity))

    def meaning(self, codes: Mapping[str, str], code: int) -> str:
        """What an exit code means to a step, said."""
        meaning = codes.get(str(code), "failed")
        self.tell(events.CommandEnded(code, meaning))
        return meaning

    def call(self, line: str, timeout: float = 600) -> tuple[int, str]:
        """A short command of a system program: its exit code, which the caller understands, and its output.

        Raises TimeoutError.
        """
        self.tell(events.CommandBegan(line))
        ran = self.session.run(line, timeout=timeout, folder=self.folder)
        self.seconds += ran.seconds
        if ran.exit_code is None:
            raise TimeoutError(f"not done after {timeout:g} seconds: {line}")
        return signed(ran.exit_code), ran.output

    # --- questions -------------------------------------------------------------------------------------------

    def rule(self, rule: Rule) -> tuple[bool, str]:
        """Judges a rule on the machine as it is now."""
        return self.rules((rule,))[0]

    def rules(self, rules: Sequence[Rule]) -> list[tuple[bool, str]]:
        """Judges rules on the machine as it is now; it is looked at once for all of them."""
        if not rules:
            return []
        sight = sight_of(self.session)
        verdicts = [judge_rule(rule, sight) for rule in rules]
        return [(verdict.holds, verdict.fact) for verdict in verdicts]

    def condition(self, nodes: tuple[Node, ...]) -> Judged:
        """Judges a resolved condition on the machine as it is now."""
        inventories = {}
        for node in _flat(nodes):
            if node.test == "group":
                data = self.session.read(self.expand(node.fact))
                if data is not None:
                    inventories[node.fact] = text_of(data)
        return judge(nodes, self.session.facts, self.rule, inventories=inventories)

    # --- taking back ---------------------------------------------------------------------------------------------

    def take_back(self, lines: Iterable[str], *, run_only: bool) -> None:
        """Undoes recorded changes from the last to the first. What somebody has changed since is left, and said."""
        called: set[str] = set()  # a command that several runs wrote down is needed once
        others = Neighbours(self)
        for line in reversed(list(lines)):
            kind, *rest = ledger.fields(line)
            if others.take_over([kind, *rest]):
                self.tell(events.Left("another package needs it", _label(kind, rest)))
                continue
            match kind:
                case "F":
                    self._unplace(*rest)
                case "X":
                    self._restore(*rest)
                case "D":
                    path = rest[0]
                    if self.session.has_folder(path):
                        self._removed(self.session.remove_folder(path), path, others, [kind, *rest])
                case "V":
                    self._unset(*rest)
                case "P":
                    self._take_out(*rest)
                case "K":
                    hive, view, key = rest
                    if self.session.has_key(hive, view, key):
                        done = self.session.drop_key(hive, view, key)
                        self._removed(done, f"{hive}\\{key}", others, [kind, *rest])
                case "U" | "R":
                    if (kind == "U" or run_only) and rest[0] not in called:
                        called.add(rest[0])
                        command = self.expand(
                            rest[0].replace("{package}", self.folder).replace("{logs}", self.vendor_logs)
                        )
                        self.tell(events.CommandTakenBack(self.call(command)[0]))

    def _removed(self, done: bool, what: str, others: Neighbours, line: list[str]) -> None:
        if done:
            self.tell(events.Changed("removed", what))
        else:
            needed = others.take_over_made(line)
            self.tell(events.Left("another package needs it" if needed else "it is not empty", what))

    def _unplace(self, new: str, old: str, path: str) -> None:
        there = self.session.digest(path)
        found = NOTHING if there is None else there
        if found == old:
            return
        if found != new:
            if there is not None:
                self.tell(events.Left("it was changed since", path))
        elif old == NOTHING:
            self.session.remove(path)
            self.tell(events.Changed("removed", path))
        else:
            self.session.write(path, self.session.read(rf"{self.room}\kept\{old}") or b"")
            self.tell(events.Changed("put back", path))

    def _restore(self, old: str, path: str) -> None:
        if self.session.read(path) is not None:
            return
        self.folders(parent(path))
        self.session.write(path, self.session.read(rf"{self.room}\kept\{old}") or b"")
        self.tell(events.Changed("put back", path))

    def _unset(self, new: str, old: str, hive: str, view: str, key: str, name: str) -> None:
        found = ledger.value_text(self.session.get_value(hive, view, key, name))
        label = _label("V", [new, old, hive, view, key, name])
        if found == old:
            return
        if found != new:
            self.tell(events.Left("it was changed since", label))
            return
        self.session.set_value(hive, view, key, name, ledger.value_of(old))
        self.tell(events.Changed("removed" if old == NOTHING else "put back", label))

    def _take_out(self, entry: str, hive: str, view: str, key: str, name: str) -> None:
        there = self.session.get_value(hive, view, key, name)
        if there is None or (text := ledger.changed_list("remove", str(there[1]), entry)) == there[1]:
            return
        self.session.set_value(hive, view, key, name, (there[0], text) if text else None)
        self.tell(events.Changed("removed", _label("P", [entry, hive, view, key, name])))

    def assume(self, action: Action) -> Result:
        """What a program does that this machine cannot carry out, as far as the step's probe says it.

        Raises NotCovered without one.
        """
        if not action.probe:
            raise NotCovered(
                f"{action.title}: a simulated machine cannot carry it out; say with `probe` what it achieves, or "
                "prove on a real one (--machine wine)"
            )
        if action.reverse:
            self.remember("U", action.reverse)
        self.session.make_hold(action.probe, action.reverse)
        self.tell(events.ProbeAssumed(action.title))
        return _done()


def _label(kind: str, fields: list[str]) -> str:
    """What a line of the record is about, for people."""
    match kind:
        case "F":
            return fields[2]
        case "V":
            return f"{fields[2]}\\{fields[4]}\\{fields[5]}"
        case "P":
            return f"{fields[1]}\\{fields[3]}\\{fields[4]}: {fields[0]}"
    return fields[0]


def _done() -> Result:
    return DONE


def _flat(nodes: tuple[Node, ...]) -> Iterable[Node]:
    for node in nodes:
        yield node
        yield from _flat(node.nodes)
