"""A package on one fresh machine: its verbs, and the phases that every scenario is made of."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import msgspec

from yendo.detect import detected
from yendo.detect.evaluate import sight_of
from yendo.effects import Effect, State, difference
from yendo.errors import Usage
from yendo.evidence import Evidence
from yendo.installers import app_contents
from yendo.machines.protocol import BROUGHT, Machine, Session
from yendo.package import carry
from yendo.package import manifest as form
from yendo.platforms.windows import command_lines, exit_codes, paths
from yendo.platforms.windows.capture_record import promise_of
from yendo.platforms.windows.exit_codes import DONE, RESTARTS
from yendo.platforms.windows.recording import is_temporary
from yendo.platforms.windows.surroundings import Account, expand
from yendo.prove import causes, comparison, examine, explain, own, promised
from yendo.prove.proof import Comparison, Leftover, Outcome, Phase
from yendo.steps import home as layout
from yendo.steps.host import TIMED_OUT
from yendo.terms import events
from yendo.terms.settings import SettingError, SettingValue

RUNNER_LIMIT = 3600.0
DETECTION_LIMIT = 120.0
MOST_RESTARTS = 5
MOST_LINES = 2000  # of a log that is kept with a proof

_TOO_EARLY = (
    "the rules hold too early: something on a fresh machine satisfies them",
    "yendo detect derive proposes rules that tell the two apart",
)
_NEVER = ("a rule asks for something that the install does not leave", "see which rule says no below")
_CAUSES = {
    "damaged": (
        "no rule asks for what was damaged",
        "yendo detect strength tells what else is not caught, yendo detect derive proposes rules",
    ),
    "gone": (
        "the rules are satisfied by what the uninstall leaves behind",
        "see which rules say yes below, or remove what they ask for",
    ),
    "older": (
        "the rules hold for an older version already",
        "ask for the version; yendo detect derive tells them apart",
    ),
}


def made_up(manifest: form.Manifest) -> dict[str, str]:
    """A value for every secret of a package: the same for the same bytes, so that a proof can be repeated, and found
    nowhere by chance.
    """
    seed = f"{manifest.id} {manifest.version} {manifest.revision}"
    names = [name for name, setting in manifest.settings.items() if setting.secret]
    return {name: "secret-" + hashlib.sha256(f"{seed} {name}".encode()).hexdigest()[:20] for name in names}


def values_text(values: Mapping[str, str]) -> bytes:
    """A file of values as the runner takes it."""
    return "".join(f"{name} = {value}\r\n" for name, value in values.items()).encode()


def options_of(site: str, values_file: str) -> str:
    """What the runner's command line says of the settings."""
    return (f" -Site {site}" if site else "") + (f' -Values "{values_file}"' if values_file else "")


Progress = Callable[[str], object]


class Stage:
    """A built package, a kind of machine and an account; phases are added to it as they are carried out."""

    def __init__(
        self,
        package: Path,
        machine: Machine,
        account: Account,
        progress: Progress,
        accept: Sequence[str] = (),
        site: str | None = None,
        values: Mapping[str, SettingValue] = {},
        predictions: comparison.Predictions | None = None,
    ) -> None:
        self.package, self.machine, self.account, self.progress, self.accept = (
            package,
            machine,
            account,
            progress,
            accept,
        )
        manifest = form.read(package)
        self.site = form.sites_of(manifest)[0] if site is None else site
        self.made_up = made_up(manifest)
        self.values, self.predictions = values, predictions or comparison.Predictions()
        self.manifest = self.settled(manifest, values)
        self.own = own.folders(self.manifest, package)
        self.folder = paths.join(BROUGHT, self.manifest.id)
        self.phases: list[Phase] = []
        self.command_seconds = 0.0
        self.comparison: Comparison | None = None
        self.leftovers: list[Leftover] = []
        self.log: list[str] = []
        self._because: dict[tuple[str, str], Evidence | None] = {}  # of what was predicted, by its key
        self.assumed: dict[str, None] = {}  # steps that ran nowhere, their probes taken for done

    @property
    def by(self) -> str:
        return (
            "the package's own runner"
            if self.machine.has_powershell
            else "Yendo, by the same steps; the runner was not executed"
        )

    def settled(self, manifest: form.Manifest, values: Mapping[str, SettingValue] = {}) -> form.Manifest:
        """With the values of the site, and ``values`` over them; secrets are made up, so that their way can be
        followed. Raises SettingError.
        """
        environment = self.machine.surroundings(self.account).environment if manifest.settings else {}
        try:
            return form.with_values(manifest, environment, manifest.sites.get(self.site, {}), values, self.made_up)
        except SettingError as error:
            raise Usage(
                f"{error}; to prove it, give a default or a value in a [site.NAME] of the plan, and build again"
            ) from error

    def bring(self, session: Session) -> None:
        """The package to the machine, and beside it the file with what is secret."""
        session.bring(self.package, self.folder)
        if self.made_up and self.machine.has_powershell:
            session.write(self.values_file, values_text(self.made_up), private=True)

    @property
    def values_file(self) -> str:
        return paths.join(BROUGHT, f"{self.manifest.id}-values.txt")

    @property
    def options(self) -> str:
        """What the runner's command line says of the settings."""
        return options_of(self.site, self.values_file if self.made_up else "")

    # --- building blocks -------------------------------------------------------------------------

    def phase(
        self,
        identifier: str,
        title: str,
        good: bool | None,
        expected: str,
        found: str,
        *,
        by: str = "",
        seconds: float = 0.0,
        details: tuple[str, ...] = (),
        cause: tuple[str, str] = ("", ""),
    ) -> bool:
        outcome: Outcome = "not executed" if good is None else "passed" if good else "failed"
        place = "nowhere" if good is None else self.machine.place
        self.phases.append(Phase(identifier, title, outcome, place, expected, found, by, seconds, details, *cause))
        self.progress(title)
        return bool(good)

    def verb(self, session: Session, verb: str) -> carry.Carried:
        """Carries a verb out to its end, through every restart in its middle."""
        carried = self.started(session, verb)
        for _ in range(MOST_RESTARTS):
            if carried.exit_code != exit_codes.RESTARTING or not self.unfinished(session):
                break
            begun = time.monotonic()
            session.restart()  # what goes on at the machine's start is the package's own runner
            self.command_seconds += time.monotonic() - begun
            if self.unfinished(session):
                again = self.started(session, verb)
            else:  # what starts the runner at the machine's start has done it
                told = events.read(self.written(session, verb))
                again = carry.Carried(carry.code_of(told), told, events.texts(told))
            carried = msgspec.structs.replace(
                again, events=(*carried.events, *again.events), lines=(*carried.lines, *again.lines)
            )
        return carried

    def written(self, session: Session, verb: str) -> bytes:
        """The events of the last run of a verb, as the runner wrote them."""
        return (
            session.read(expand(paths.join(self.manifest.logs, f"{verb}.jsonl"), session.surroundings.environment))
            or b""
        )

    def unfinished(self, session: Session) -> bool:
        journal = carry.read_journal(
            session.read(
                expand(
                    layout.state(self.manifest.home, self.manifest.id, layout.JOURNAL), session.surroundings.environment
                )
            )
        )
        return journal is not None and not journal.over

    def started(self, session: Session, verb: str) -> carry.Carried:
        carried = self._started(session, verb)
        self.assumed |= {event.step: None for event in carried.events if isinstance(event, events.ProbeAssumed)}
        self.log += [f"{verb}: {line}" for line in (*carried.lines, f"exit code {carried.exit_code}")][
            : MOST_LINES - len(self.log)
        ]
        return carried

    def _started(self, session: Session, verb: str) -> carry.Carried:
        if self.machine.has_powershell:
            # "call" loses the exit code in an older layer; a management system starts it through the shell too
            before = self.written(session, verb)
            ran = session.run(self.runner_line(verb), timeout=RUNNER_LIMIT)
            happened = events.read_since(before, self.written(session, verb))
            self.command_seconds += ran.seconds
            code = TIMED_OUT if ran.exit_code is None else ran.exit_code
            return carry.Carried(code, happened, _printed(ran.output, happened))
        carried = carry.carry(
            self.manifest,
            self.package,
            session,
            verb,
            folder=self.folder,
            sleep=time.sleep if self.machine.evidence else lambda _: None,
        )
        self.command_seconds += carried.seconds
        return carried

    def runner_line(self, verb: str) -> str:
        return command_lines.batch(paths.join(self.folder, "apply.cmd"), verb + self.options)

    @property
    def detection_line(self) -> str:
        return command_lines.script(paths.join(self.folder, "detect.ps1"), "-Facts")

    def script_says(self, session: Session) -> tuple[bool | None, str]:
        """What the package's own detection script says; None where it cannot be executed."""
        if not self.machine.has_powershell:
            return None, ""
        ran = session.run(self.detection_line, timeout=DETECTION_LIMIT)
        self.command_seconds += ran.seconds
        return (None if ran.exit_code not in (0, 1) else ran.exit_code == 0), ran.output.strip()

    def detection(
        self,
        session: Session,
        state: State,
        identifier: str,
        title: str,
        wanted: bool,
        script: tuple[bool | None, str] | None,
    ) -> bool:
        holds, verdicts = detected(self.manifest.detect, sight_of(session, state))
        facts = tuple(
            f"{verdict.rule.title}: {'yes' if verdict.holds else 'no'}, {verdict.fact}" for verdict in verdicts
        )
        said, output = script or (None, "")  # None: the script is not at hand any more
        words = {True: "detected", False: "not detected"}
        if not self.manifest.detect:
            return self.phase(identifier, title, False, words[wanted], "the plan has no detection rule")
        found = words[holds]
        if script is not None and self.machine.has_powershell and said is not holds:
            facts += (f"the package's own script says {'nothing' if said is None else words[said]}: {output[-300:]}",)
            return self.phase(
                identifier,
                title,
                False,
                f"{words[wanted]}, by rules and script alike",
                f"{found} by the rules",
                details=facts,
            )
        good = holds == wanted
        cause = ("", "") if good else _CAUSES.get(identifier, _TOO_EARLY) if holds else _NEVER
        return self.phase(
            identifier,
            title,
            good,
            words[wanted],
            found,
            details=facts if not good else (),
            cause=cause,
            by="rules and the package's own script" if said is not None else "rules; the script was not executed",
        )

    def failed_run(
        self, session: Session, verb: str, carried: carry.Carried
    ) -> tuple[tuple[str, ...], tuple[str, str]]:
        """Details and cause of a verb that ended badly."""
        environment = session.surroundings.environment
        log: tuple[str, ...] = ()
        failed_action = None
        number = examine.failed_step(carried.events)
        for action in self.manifest.actions(verb)[number - 1 : number] if number else ():
            data = session.read(expand(paths.join(self.manifest.logs, action.log), environment)) if action.log else None
            if data:
                told = explain.explain(data)
                log, failed_action = log + told.lines, told.action or failed_action
        examined = examine.examine(self.manifest, self.package, session, verb, carried.events, failed_action)
        found = causes.diagnose(
            causes.Failure(carried.exit_code, carried.lines, log, failed_action, tuple(examined), carried.events)
        )
        details = ((found[0].evidence,) if found else ()) + carried.lines[-4:]
        details += ((f"action that failed: {failed_action}",) if failed_action else ()) + log
        if not found:
            return details, (f"exit code {carried.exit_code} has no meaning that Yendo knows", "see the lines below")
        also = [other.cause.words for other in found[1:3] if other.weight >= causes.ACTION]
        return tuple(dict.fromkeys(details)), (
            found[0].cause.words,
            found[0].cause.advice + (f" (or: {'; '.join(also)})" if also else ""),
        )

    # --- the phases ----------------------------------------------------------------------------------

    def life(self) -> None:
        """Fresh, installed, installed again, removed."""
        with self.machine.fresh(self.account) as session:
            self.bring(session)
            before = self.machine.baseline(self.account)
            if not self.detection(
                session, before, "fresh", "fresh machine, not detected", False, self.script_says(session)
            ):
                return
            after = self.install(session, before)
            if after is None:
                return
            self.withheld(session)
            again = self.again(session, after)
            if not self.manifest.uninstall:
                self._stays(session)
                return
            self.uninstall(session, before, again or after)

    def _stays(self, session: Session) -> None:
        """There is no uninstall: where the plan says why, the runner says it too, and changes nothing."""
        why = self.manifest.permanent
        if not why:
            self.phase(
                "uninstall", "uninstall", None, "the package removes what it installed",
                "the plan has no uninstall steps", cause=("nobody said how to remove it", "add [[uninstall]]"),
            )  # fmt: skip
            return
        before = session.state()
        carried = self.verb(session, "uninstall")
        changed = self.without_own(difference(before, session.state()), session)
        self.phase(
            "stays", f"it stays: {why}", carried.exit_code == form.NOT_APPLICABLE and not changed,
            f"exit code {form.NOT_APPLICABLE}, nothing changed",
            f"exit code {carried.exit_code}, {len(changed)} effects", by=self.by, details=carried.lines[-3:],
        )  # fmt: skip

    def install(self, session: Session, before: State) -> State | None:
        begun = time.monotonic()
        carried = self.verb(session, "install")
        good = carried.exit_code in DONE
        details, cause = ((), ("", "")) if good else self.failed_run(session, "install", carried)
        found = f"exit code {carried.exit_code}" + (
            f" ({form.EXIT_CODES[carried.exit_code].meaning})" if carried.exit_code in RESTARTS else ""
        )
        if not self.phase(
            "install",
            "install",
            good,
            "exit code 0, 3010 or 1641",
            found,
            by=self.by,
            seconds=time.monotonic() - begun,
            details=details,
            cause=cause,
        ):
            if carried.exit_code == form.NOT_DETECTED:
                self.detection(
                    session, session.state(), "detected", "detected after the install", True, self.script_says(session)
                )
            return None
        script = self.script_says(session)
        state = session.state()
        self.detection(session, state, "detected", "detected after the install", True, script)
        self.compare(session, before, state)
        self.captured(session, before, state)
        return state

    def captured(self, session: Session, before: State, after: State) -> None:
        """Whether what was captured is there as the plan wants it; nothing to say where nothing was."""
        promise = promise_of(self.package)
        if promise is None:
            return
        person = self.account == "user"
        kept, _ = self.machine.shown(promise.kept)  # as far as this machine shows such things
        promise = msgspec.structs.replace(promise, kept=tuple(kept))
        inside = self._inside() if promise.within else None
        found = promised.held(
            promise, before, after, session.surroundings, person=person, read=session.read, inside=inside
        )
        there = f"{found.within} kept for its own programs, by reading the package" if inside else f"{found.kept} kept"
        words = f"{there}, {found.left} left out" + (
            f"; {found.own} of people's own not looked at as this account" if found.own else ""
        )
        self.phase(
            "captured",
            "as it was captured",
            not found.wrong,
            "everything that is kept is there, and nothing that is left out",
            words if not found.wrong else f"{len(found.wrong)} of {found.kept + found.within + found.left} otherwise",
            details=found.wrong[:10],
            cause=("the package does not bring what was captured", "see the things below") if found.wrong else ("", ""),
        )

    def _inside(self) -> State:
        """What the app packages that come along bring to their own programs. No machine shows it to others."""
        found = State()
        for path in sorted((self.package / "media").glob("*.msix*")):
            for thing in app_contents.seen(path):
                found.add(thing)
        return found

    def withheld(self, session: Session) -> None:
        """Whether a secret shows up where it must not: in a log, or in what the runner keeps."""
        if not self.made_up:
            return
        environment = session.surroundings.environment
        folders = [
            expand(self.manifest.logs, environment),
            expand(layout.state(self.manifest.home, self.manifest.id), environment),
        ]
        found = []
        for path in [path for folder in folders for path in session.files_below(folder)]:
            data = session.read(path) or b""
            found += [
                f"{name}: in {path}"
                for name, value in self.made_up.items()
                if value.encode() in data or value.encode("utf-16-le") in data
            ]
        found += [
            f"{name}: said by the runner"
            for name, value in self.made_up.items()
            if any(value in line for line in self.log)
        ]
        self.phase(
            "secrets",
            "no secret in logs or in what the runner keeps",
            not found,
            f"{len(self.made_up)} made-up secrets, found nowhere",
            "; ".join(found) or "found nowhere",
            cause=(
                "a step writes it there",
                "hand it over in a property of an msi step, or in a file that a step takes away again",
            )
            if found
            else ("", ""),
        )

    def compare(self, session: Session, before: State, after: State) -> None:
        """Whether it did what was foreseen."""
        observed = self.without_own(difference(before, after), session)
        if any(action.kind == "exe" for action in self.manifest.install):
            observed = [
                effect for effect in observed if not is_temporary(effect.thing, session.surroundings.environment)
            ]
        key = (self.machine.label, self.account, self.site, *sorted(self.values.items()))
        prediction = self.predictions.of(key, self.manifest, self.package, session, before, real=self.machine.evidence)
        found = comparison.compared(self.machine, session, observed, prediction)
        self.comparison, self._because = found.comparison, found.because
        self.phase(
            "effects", "effects as predicted", found.good, found.expected, found.words,
            details=found.details, cause=found.cause,
        )  # fmt: skip

    def again(self, session: Session, first: State) -> State | None:
        begun = time.monotonic()
        carried = self.verb(session, "install")
        state = session.state()
        changed = self.without_own(difference(first, state), session)
        good = carried.exit_code in DONE and not changed
        details, cause = ((), ("", "")) if carried.exit_code in DONE else self.failed_run(session, "install", carried)
        details += tuple(str(effect) for effect in changed[:10])
        self.phase(
            "again",
            "installed again, nothing changed",
            good,
            "exit code accepted, no effect",
            f"exit code {carried.exit_code}, {len(changed)} effects",
            by=self.by,
            seconds=time.monotonic() - begun,
            details=details,
            cause=cause,
        )
        return state

    def uninstall(self, session: Session, before: State, installed: State) -> None:
        begun = time.monotonic()
        carried = self.verb(session, "uninstall")
        good = carried.exit_code in DONE
        details, cause = ((), ("", "")) if good else self.failed_run(session, "uninstall", carried)
        self.phase(
            "uninstall",
            "uninstall",
            good,
            "exit code 0, 3010 or 1641",
            f"exit code {carried.exit_code}",
            by=self.by,
            seconds=time.monotonic() - begun,
            details=details,
            cause=cause,
        )
        script = self.script_says(session)
        state = session.state()
        self.detection(session, state, "gone", "not detected after the uninstall", False, script)
        left = difference(before, state)
        ours = self.without_own(left, session)
        own = {id(effect) for effect in ours}
        self.leftovers = [
            Leftover(effect.left, "the runner's log, kept on purpose", "runner")
            for effect in left
            if id(effect) not in own
        ]
        self.leftovers += self.judged(ours, session)
        serious = [leftover for leftover in self.leftovers if leftover.whose == "package"]
        shown = serious + [leftover for leftover in self.leftovers if leftover.whose not in ("package", "runner")]
        self.phase(
            "leftovers",
            "nothing left behind",
            not serious,
            "the machine as it was, but for the logs",
            f"{len(serious)} left behind"
            + (f", {len(shown) - len(serious)} by the layer or temporary" if len(shown) > len(serious) else ""),
            details=tuple(f"{leftover.what}: {leftover.reason}" for leftover in shown[:12]),
            cause=("", "")
            if not serious
            else (
                "the uninstall does not undo all that the install did",
                "add steps to [[uninstall]], or accept it in the notes",
            ),
        )

    def judged(self, left: Sequence[Effect], session: Session) -> list[Leftover]:
        """Whose doing it is that something is left, or gone."""
        return comparison.judged(left, self.machine, session, self._because, self.accept)

    def without_own(self, effects: list[Effect], session: Session) -> list[Effect]:
        """Without what runners keep: logs, records, what is needed for repair and uninstall; also of packages inside
        this one.
        """
        return own.without(effects, self.own, session.surroundings.environment)


def _printed(output: str, told: Sequence[events.Event]) -> tuple[str, ...]:
    """What was printed, line by line; a console loses what is beyond its code page, the events have it."""

    def plain(text: str) -> str:
        return "".join(character if character.isascii() and character != "?" else "?" for character in text)

    known = {plain(text): text for text in events.texts(told)}
    return tuple(known.get(plain(line), line) for line in output.splitlines() if line.strip())
