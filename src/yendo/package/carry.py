"""What the runner means, carried out by Yendo itself: on a simulated machine, and on a real one that has no shell.

The same steps in the same order with the same exit codes as ``apply.ps1``; tests hold the two together. A run writes
a journal, one line a step begun and ended; a run that finds one unfinished goes on where it stopped.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta
from functools import cached_property
from pathlib import Path
from typing import Literal

import msgspec

from yendo import digest
from yendo.effects.things import parent
from yendo.errors import NotCovered
from yendo.facts.versions import VersionRange
from yendo.machines.protocol import Session
from yendo.package import manifest as form
from yendo.package import scripts
from yendo.plan.model import VERBS
from yendo.platforms.windows import exit_codes, paths
from yendo.platforms.windows.exit_codes import DONE
from yendo.steps import KINDS, Action
from yendo.steps import home as layout
from yendo.steps import host as hosts
from yendo.steps.action import MsiData
from yendo.steps.base import Result
from yendo.steps.host import Host
from yendo.steps.restart import RestartData
from yendo.steps.tell import in_language
from yendo.terms import events
from yendo.terms.settings import SettingError, texts_of
from yendo.walk import files_below

MOST_LEFT = 20  # files that are named one by one
BAD = ("failed", "timed out", "again later")


class Carried(msgspec.Struct, frozen=True):
    """How a verb ended: its exit code, what happened, seconds spent in the vendor's commands.

    ``lines`` are what a person read: the sentences of the events, and on a real machine whatever else was printed.
    """

    exit_code: int
    events: tuple[events.Event, ...]
    lines: tuple[str, ...]
    seconds: float = 0.0


class PutOffs(msgspec.Struct, frozen=True):
    """How often, and until which local time, whoever starts the runner lets a person put it off: never more than the
    package allows.
    """

    most: int | None = None
    until: datetime | None = None


AS_THE_PACKAGE_SAYS = PutOffs()


class Journal(msgspec.Struct):
    """An unfinished run: its verb, the content it belongs to, the steps that have begun, those that
    have ended and how.
    """

    verb: str
    run: str
    begun: set[int] = set()
    ended: dict[int, tuple[str, int]] = {}
    undoing: int | None = None  # the exit code to leave with once everything is undone
    over: bool = False
    restarted: int = 0  # the last step that restarted the machine


_JOURNAL = re.compile(r"step\t\d{1,9}|done\t\d{1,9}\t[a-z ]+\t-?\d{1,10}|(undo|end)\t-?\d{1,10}|begin\t[^\t]*\t[^\t]*")


def read_journal(data: bytes | None) -> Journal | None:
    """The journal of a run; a last line that was cut off in writing does not count."""
    if not data:
        return None
    journal: Journal | None = None
    for line in data.decode("utf-8", "replace").split("\r\n")[:-1]:
        word, *rest = line.split("\t")
        if journal is not None and not _JOURNAL.fullmatch(line):
            return None  # what is no line of ours makes the whole no journal of ours
        if word == "begin" and len(rest) == 2:
            journal = Journal(rest[0], rest[1], set(), {})
        elif journal is None:
            return None
        elif word == "step":
            journal.begun.add(int(rest[0]))
        elif word == "done":
            journal.ended[int(rest[0])] = rest[1], int(rest[2])
            if rest[1] == "restart now":
                journal.restarted = int(rest[0])
        elif word == "undo":
            journal.undoing = int(rest[0])
        elif word == "end":
            journal.over = True
    return journal


class _Carrier:
    def __init__(
        self, manifest: form.Manifest, package: Path, session: Session, folder: str, sleep: Callable[[float], object],
        put_offs: PutOffs = AS_THE_PACKAGE_SAYS,
    ) -> None:  # fmt: skip
        self.manifest, self.package, self.session, self.sleep = manifest, package, session, sleep
        self.put_offs = put_offs
        self.host = Host(
            session, manifest.id, package, folder, hidden=manifest.secrets, logs=manifest.logs, home=manifest.home
        )
        self.host.sleep, self.host.carry_other = sleep, self.other
        self.tell = self.host.tell
        self.kept = self.host.expand(layout.kept(manifest.home, manifest.id))
        self.journal_file = paths.join(self.host.room, layout.JOURNAL)

    @cached_property
    def uses(self) -> dict[str, str]:
        return scripts.uses(self.manifest)

    # --- the journal -----------------------------------------------------------------------------

    def note(self, *fields: object) -> None:
        data = self.session.read(self.journal_file) or b""
        whole = data[: data.rfind(b"\r\n") + 2] if b"\r\n" in data else b""
        self.host.own_folders(self.host.room)
        self.session.write(self.journal_file, whole + ("\t".join(map(str, fields)) + "\r\n").encode())

    def begin(self, verb: str) -> Journal:
        self.host.own_folders(self.host.room)
        self.session.write(self.journal_file, f"begin\t{verb}\t{self.manifest.run}\r\n".encode())
        self.host.remember("B")
        return Journal(verb, self.manifest.run, set(), {})

    # --- a host that many people share at once ---------------------------------------------------------

    def enter_mode(self) -> None:
        """Puts such a host into its install mode; a mark says so until it is out of it, also where a run is cut off."""
        try:
            shared = self.session.facts.multi_session
        except NotCovered:
            shared = None
        if self.manifest.install_mode and shared:
            self.session.write(paths.join(self.host.room, layout.MODE), b"")
            self.set_mode("install", "on")

    def leave_mode(self, room: str) -> None:
        if self.session.read(paths.join(room, layout.MODE)) is not None:
            self.set_mode("execute", "off")
            self.session.remove(paths.join(room, layout.MODE))

    def leave_others_mode(self) -> None:
        """What another package's run has left on, that was cut off."""
        try:
            files = self.session.files_below(parent(self.host.room))
        except NotCovered:
            return
        for path in files:
            if paths.name(path).lower() == layout.MODE and parent(path).lower() != self.host.room.lower():
                self.leave_mode(parent(path))

    def set_mode(self, mode: str, word: Literal["on", "off"]) -> None:
        code, _ = self.host.call(f"change.exe user /{mode}")
        self.tell(events.InstallMode(word, code))

    # --- the verb ------------------------------------------------------------------------------------

    def run(self, verb: str) -> int:
        code = self.whole_run(verb)
        self.leave_mode(self.host.room)
        return code

    def whole_run(self, verb: str) -> int:
        self.host.own_folders(self.host.logs)
        self.tell(events.RunBegan(self.manifest.name, self.manifest.version, self.manifest.revision, verb))
        self.leave_others_mode()
        self.host.folder = self.kept
        try:
            code = self.begun_or_resumed(verb)
        except (OSError, ValueError) as error:  # between two steps; what fails in one is told there
            self.tell(events.RunStopped(str(error)))
            return hosts.STEP_FAILED
        ended = read_journal(self.session.read(self.journal_file))
        if ended is None or ended.over:
            self.leave()
        return code

    def begun_or_resumed(self, verb: str) -> int:
        journal = read_journal(self.session.read(self.journal_file))
        if journal is None or journal.over or journal.verb != verb or journal.run != self.manifest.run:
            stopped = self.prepare(verb)
            if stopped is not None:
                self.leave()
                return stopped
            journal = self.begin(verb)
        else:
            self.tell(events.RunResumed(verb, len(journal.ended)))
            if not self.whole(verb):
                return form.DAMAGED
        if journal.undoing is not None:
            return self.undo(journal.undoing)
        if verb == "install":
            self.remember_settings()
        self.enter_mode()
        return self.steps(verb, journal)

    def prepare(self, verb: str) -> int | None:
        """Everything before the first step; an exit code where the run ends here."""
        self.tell_unlisted()
        if verb != "uninstall":
            if not self.whole("a"):
                return form.DAMAGED
            found = self.host.condition(self.manifest.when)
            if not found.holds:
                reasons = "; ".join(found.reasons)
                self.tell(events.NotNow(reasons) if found.passing else events.NotApplicable(reasons))
                return form.LATER if found.passing else form.NOT_APPLICABLE
        else:
            if self.manifest.permanent and not self.manifest.uninstall:
                self.tell(events.Permanent(self.manifest.permanent))
                return form.NOT_APPLICABLE
            others = self.marks(self.manifest.id)
            if others:
                self.tell(events.NeededByOthers(", ".join(others)))
                return form.NEEDED
        if not self.whole(verb):
            return form.DAMAGED
        stopped = self.close(verb)
        if stopped is not None:
            return stopped
        return self.needs() if verb == "install" else None

    def remember_settings(self) -> None:
        """What repair, uninstall and detection will need to know: every value but the secret ones."""
        known = self.manifest.settings
        lines = [f"{name}={known[name].text_said(value)}\r\n" for name, value in sorted(self.manifest.chosen.items())]
        if known:
            self.session.write(paths.join(self.host.room, layout.SETTINGS), "".join(lines).encode())

    def remembered(self, manifest: form.Manifest) -> dict[str, str]:
        """The values that a package was installed with on this machine, as far as it still knows them."""
        data = self.session.read(self.host.expand(layout.state(manifest.home, manifest.id, layout.SETTINGS))) or b""
        pairs = [line.partition("=") for line in data.decode().splitlines()]
        values = {name: value for name, _, value in pairs if name in manifest.settings}
        return {name: value for name, value in values.items() if not list(texts_of(manifest.settings, {name: value}))}

    def whole(self, verb: str) -> bool:
        """Brings what a verb needs of the package into the home, where nobody can change it, and looks whether it is
        whole.
        """
        uses = self.uses
        for file in self.manifest.files:
            if not file.path.startswith(form.CONTENT) or verb[0] not in uses[file.path]:
                continue
            path = self.package / file.path
            there = path.is_file()
            if not there or digest.of_file(path) != file.sha256:
                problem: Literal["is missing", "has changed"] = "has changed" if there else "is missing"
                self.tell(events.PackageDamaged(paths.native(file.path), problem))
                return False
        self.session.lend(self.package, self.kept)
        return True

    def tell_unlisted(self) -> None:
        """Nothing that is not listed comes along: a library beside a setup would be loaded by it."""
        listed = {file.path.lower() for file in self.manifest.files}
        more = 0
        for room in form.CONTENT:
            for below, _ in files_below(self.package / room, links=True):
                name = room + below
                if name.lower() not in listed:
                    more += 1
                    if more <= MOST_LEFT:
                        self.tell(events.LeftBehind(paths.native(name)))
        if more > MOST_LEFT:
            self.tell(events.MoreLeftBehind(more - MOST_LEFT))

    def leave(self) -> None:
        """Once a verb is over, of the package in the home stays what repair and uninstall need, or everything, or
        nothing.
        """
        installed = self.session.read(self.host.expand(layout.mark(self.manifest.home, self.manifest.id))) is not None
        if self.manifest.keep == "nothing" or not (installed or self.host.recorded()):
            self.session.take_away(self.kept)

    # --- programs in the way ---------------------------------------------------------------------------

    def close(self, verb: str) -> int | None:
        way = self.manifest.in_the_way.get(verb, form.ResolvedInTheWay())
        running = [name for name in way.programs if self.session.is_running(name)]
        people = self.people()
        if (running or way.always) and way.ask and people and not self.agreed(way, running):
            return form.POSTPONED
        for name in running:
            self.tell(events.CloseAsked(name))
            self.session.close_program(name)
            if self.session.is_running(name):
                self.tell(events.ProgramEnded(name))
                self.session.end_programs(name)
        return None

    def people(self) -> int:
        try:
            return self.session.facts.people or 0
        except NotCovered:
            return 0

    def agreed(self, way: form.ResolvedInTheWay, running: list[str]) -> bool:
        """Asks the person, who may postpone a limited number of times, and not for ever."""
        path = paths.join(self.host.room, layout.POSTPONED)
        first, _, count = (self.session.read(path) or b"").decode().partition("\t")
        now = self.session.facts.time
        started = now if not first else type(now).fromisoformat(first)
        most = way.postpone if self.put_offs.most is None else min(way.postpone, self.put_offs.most)
        left = most - int(count or 0)
        last = started + timedelta(seconds=way.postpone_for)
        last = last if self.put_offs.until is None else min(last, self.put_offs.until)
        # a clock that was set back gives no more time than the whole
        if left <= 0 or now > last or started > now + timedelta(days=1):
            self.tell(events.PostponedEnough())
            return True
        text = in_language(way.text, self.session.facts.language) if way.text else ""
        if self.session.answer(f"{text} {', '.join(running)}; {left}".strip()):
            self.tell(events.PersonAgreed())
            return True
        self.host.own_folders(self.host.room)
        self.session.write(path, f"{started.isoformat(timespec='minutes')}\t{int(count or 0) + 1}".encode())
        self.tell(events.Postponed(left - 1))
        return False

    # --- prerequisites ---------------------------------------------------------------------------------------

    def marks(self, identifier: str) -> list[str]:
        """The packages that need one."""
        folder = self.host.expand(layout.needed(self.manifest.home, identifier))
        try:
            return [paths.name(path)[:-4] for path in self.session.files_below(folder)]
        except NotCovered:
            return []

    def met(self, need: form.Needed) -> bool:
        if need.package:
            data = self.session.read(self.host.expand(layout.mark(self.manifest.home, need.package)))
            if need.version and data is not None and not VersionRange.parse(need.version).fits(data.decode().strip()):
                self.tell(events.NeedVersion(need.package, data.decode().strip(), need.version))
                return False
            if not need.holds:
                return data is not None
        verdicts = [self.host.rule(rule) for rule in need.holds]
        for (holds, fact), rule in zip(verdicts, need.holds, strict=True):
            if not holds:
                self.tell(events.NeedUnmet(rule.title, fact))
        return all(holds for holds, _ in verdicts)

    def needs(self) -> int | None:
        for need in self.manifest.needs:
            name = need.package or "a fact"
            if not self.met(need):
                if not need.folder:
                    self.tell(events.NeedNotBrought(name))
                    return form.NEED_MISSING
                if need.consent:
                    if not self.people():
                        self.tell(events.NobodyAgrees(name))
                        return form.NEED_MISSING
                    if not self.session.answer(in_language(need.consent, self.session.facts.language)):
                        self.tell(events.PersonDeclined(name))
                        return form.REFUSED
                code = self.other(need.folder, "install")
                self.tell(events.NeedCarried(name, code))
                if code not in DONE:
                    return code
                if not self.met(need):
                    return form.NEED_MISSING
            if need.package:
                folder = self.host.expand(layout.needed(self.manifest.home, need.package))
                self.host.own_folders(folder)
                self.session.write(paths.join(folder, f"{self.manifest.id}.txt"), b"needed")
        return None

    def release(self) -> None:
        """After an uninstall: what it needed is needed by one less, and goes where that was the last."""
        for need in self.manifest.needs:
            if not need.package:
                continue
            folder = self.host.expand(layout.needed(self.manifest.home, need.package))
            self.session.remove(paths.join(folder, f"{self.manifest.id}.txt"))
            if self.marks(need.package):
                continue
            self.session.remove_folder(folder)
            self.session.remove_folder(self.host.expand(layout.all_needed(self.manifest.home)))
            there = (
                self.session.read(self.host.expand(layout.mark(self.manifest.home, need.package))) is not None
            )  # a run that was cut off here goes on
            if need.remove and need.folder and there:
                self.tell(events.NeedReleased(need.package, self.other(need.folder, "uninstall")))

    def other(self, folder: str, verb: str, settings: Mapping[str, str] = {}, site: str = "") -> int:
        """A verb of the package in a folder of this one, with the settings that it is given, over those of a site."""
        inner = self.package / folder
        name = paths.into(self.host.folder) + paths.native(folder)
        manifest = form.read(inner)
        try:
            known = self.remembered(manifest)
            layers = known, manifest.sites.get(site, {}), settings
            manifest = form.with_values(manifest, self.session.surroundings.environment, *layers, verb=verb)
        except SettingError as error:
            for problem in error.problems:
                self.tell(events.SettingRefused(problem))
            return form.UNSETTLED
        found = carry(manifest, inner, self.session, verb, folder=name, sleep=self.sleep)
        self.host.seconds += found.seconds
        return found.exit_code

    # --- the steps -----------------------------------------------------------------------------------------------

    def steps(self, verb: str, journal: Journal) -> int:
        final = 0
        for number, action in enumerate(self.manifest.actions(verb), 1):
            if number in journal.ended:
                meaning, _ = journal.ended[number]
                if number > journal.restarted:
                    final = self.after(meaning, final)
                continue
            self.host.step = number
            self.tell(events.StepBegan(number, action.title))
            if action.once and self.took(action):
                self.tell(events.StepDoneBefore())
                self.note("done", number, "done", 0)
                continue
            self.host.everybodys = action.standing
            found = self.host.condition(action.when)
            if found.later:
                self.tell(events.NotNow("; ".join(found.reasons)))
                return form.LATER
            if not found.holds or not self.needed(action):
                if not found.holds:
                    self.tell(events.StepPassed("; ".join(found.reasons)))
                self.note("done", number, "not needed", 0)
                continue
            if number not in journal.begun:
                self.note("step", number)
            result = self.attempts(number, action)
            if result.meaning in BAD:
                self.tell(events.StepEndedBadly(result.code, number))
                if action.on_failure != "go-on":
                    code = result.code or hosts.STEP_FAILED
                    if action.on_failure == "undo":
                        return self.undo(code)
                    if result.meaning != "again later":
                        self.note("end", code)
                    return code
                self.tell(events.GoingOn())
                result = Result("not needed", result.code)
            self.note("done", number, result.meaning, result.code)
            if result.meaning == "restart now":
                self.tell(events.Restarting())
                asked = RestartData.of(action)
                text = asked.text.replace('"', "'")
                comment = f' /c "{text}"' if text else ""
                self.host.call(f"shutdown.exe /r /t {asked.notice}{comment} /d p:4:2")
                return exit_codes.RESTARTING
            final = self.after(result.meaning, final)
        self.host.step = 0
        self.leave_mode(self.host.room)
        return self.finish(verb, final)

    def after(self, meaning: str, final: int) -> int:
        if meaning in ("restart", "restarting"):
            self.host.restart_asked = True
        if meaning == "restarting":
            return exit_codes.RESTARTING
        return exit_codes.NEEDS_RESTART if meaning == "restart" and final != exit_codes.RESTARTING else final

    def attempts(self, number: int, action: Action) -> Result:
        wait = action.retry_wait
        for attempt in range(action.retries + 1):
            if attempt:
                self.tell(events.StepRetried(wait, attempt, action.retries))
                self.sleep(wait)
                wait *= 2
            try:
                if action.kind == "msi":
                    self.expect_removal(action)
                result = KINDS[action.kind].perform(action, self.host)
            except (OSError, ValueError) as error:
                self.tell(events.StepFailed(number, str(error)))
                result = Result("failed", hosts.STEP_FAILED)
            if result.meaning not in BAD and result.meaning != "restart now" and not self.took(action):
                self.tell(events.ProbeFailed("; ".join(self.host.rule(rule)[1] for rule in action.probe)))
                result = Result("failed", hosts.STEP_FAILED)
            if result.meaning not in BAD or result.meaning == "again later":
                break
        return result

    def expect_removal(self, action: Action) -> None:
        """What would undo an installation that is not finished: removing the product, where it was not there before."""
        if action.temporary_reverse and not self.session.state().get("product", MsiData.of(action).product or ""):
            self.host.remember("R", action.temporary_reverse)

    def took(self, action: Action) -> bool:
        return all(self.host.rule(rule)[0] for rule in action.probe)

    def needed(self, action: Action) -> bool:
        """Whether none of the step's ``unless`` rules holds."""
        if action.reverse:
            self.host.found_so("U", action.reverse)
        held = [(rule, fact) for rule in action.unless for holds, fact in [self.host.rule(rule)] if holds]
        for rule, fact in held:
            self.tell(events.StepNotNeeded(rule.title, fact))
        return not held

    # --- the end ------------------------------------------------------------------------------------------------------

    def undo(self, code: int) -> int:
        journal = read_journal(self.session.read(self.journal_file))
        if journal is None or journal.undoing is None:
            self.note("undo", code)
        self.tell(events.Undoing())
        lines = self.host.recorded()
        begun = hosts.latest(lines)
        self.host.take_back(lines[begun:], run_only=True)
        self.host.forget(begun)
        self.note("end", code)
        return code

    def finish(self, verb: str, final: int) -> int:
        if verb == "install" and final == 0 and self.manifest.detect:
            verdicts = self.host.rules(self.manifest.detect)
            missing = [
                (rule, fact) for rule, (holds, fact) in zip(self.manifest.detect, verdicts, strict=True) if not holds
            ]
            if missing:
                for rule, fact in missing:
                    self.tell(events.NotDetected(rule.title, fact))
                self.note("end", form.NOT_DETECTED)
                return form.NOT_DETECTED
        if verb == "uninstall":
            self.release()
            self.session.remove(self.host.expand(layout.mark(self.manifest.home, self.manifest.id)))
            self.note("end", final)
            if not [line for line in self.host.recorded() if line[0] not in "BR"]:
                self.clear()
        else:
            self.host.own_folders(self.host.expand(layout.marks(self.manifest.home)))
            mark = self.host.expand(layout.mark(self.manifest.home, self.manifest.id))
            self.session.write(mark, self.manifest.version.encode())
            self.note("end", final)
        self.tell(events.RunEnded(final))
        return final

    def clear(self) -> None:
        """Nothing of ours stays but the logs."""
        self.host.forget(0)
        for name in (layout.POSTPONED, layout.JOURNAL, layout.SETTINGS):
            self.session.remove(paths.join(self.host.room, name))
        for verb in VERBS:
            for number in range(1, len(self.manifest.actions(verb)) + 1):
                self.session.remove(paths.join(self.host.room, layout.FACTS, f"{verb}-{number}.json"))
        self.session.remove_folder(paths.join(self.host.room, layout.FACTS))
        self.session.remove_folder(self.host.vendor_logs)
        home = self.manifest.home
        whole = (layout.states(home), layout.marks(home), home)
        for folder in (self.host.room, *map(self.host.expand, whole)):
            self.session.remove_folder(folder)


def code_of(told: Sequence[events.Event]) -> int:
    """The exit code of a run that nobody waited for, by what it told last."""
    for event in reversed(told):
        if isinstance(event, events.NotDetected):
            return form.NOT_DETECTED
        if isinstance(event, events.NotNow):
            return form.LATER
        if isinstance(event, events.RunEnded | events.StepEndedBadly):
            return event.code
    return hosts.STEP_FAILED


def carry(
    manifest: form.Manifest,
    package: Path,
    session: Session,
    verb: str,
    *,
    folder: str,
    sleep: Callable[[float], object] = time.sleep,
    put_offs: PutOffs = AS_THE_PACKAGE_SAYS,
) -> Carried:
    """Carries out one verb. ``package`` is the built package here, ``folder`` where it lies on the machine."""
    carrier = _Carrier(manifest, package, session, folder, sleep, put_offs)
    code = carrier.run(verb)
    host = carrier.host
    happened = tuple(event for _, event in host.told)
    lines = events.texts(happened)
    now = session.facts.time.strftime("%Y-%m-%dT%H:%M:%SZ")
    told = [events.written(event, time=now, verb=verb, step=step) for step, event in host.told]
    for ending, new in (("log", "".join(f"{line}\r\n" for line in lines).encode()), ("jsonl", b"".join(told))):
        name = paths.join(host.logs, f"{verb}.{ending}")
        session.write(name, (session.read(name) or b"") + new)
    return Carried(code, happened, lines, host.seconds)
