"""Steps that upgrade the system itself by the setup of its own media."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from yendo.errors import NotCovered, YendoError
from yendo.platforms.windows import exit_codes, paths, systems
from yendo.platforms.windows.registry_keys import MACHINE
from yendo.servicing import media, upgrade
from yendo.steps.base import DONE, UNSEEN, Action, ActionData, At, Kind, Result, Step, below, in_extras, packaged
from yendo.steps.captured import MadeStep
from yendo.steps.host import STEP_FAILED
from yendo.steps.restart import RestartStep
from yendo.terms import events
from yendo.terms.amounts import Text, seconds
from yendo.terms.rules import RegistryRule

if TYPE_CHECKING:
    from yendo.steps.host import Host

WITHIN = "6 h"
CURRENT = paths.join(MACHINE, systems.CURRENT_KEY)
SETUPS = ("SetupHost", "SetupPrep")  # what goes on after setup.exe has returned
AGAIN = Result("again later", exit_codes.BUSY)


class SystemUpgradeStep(Step, tag="system-upgrade", frozen=True, rename={"source": "from"}, kw_only=True):
    """Upgrades Windows from media in a folder below ``extras/``: a trial, the setup, the restart, and a look at what
    became of it. The setup is never ended: after ``timeout`` (6 hours) only the waiting ends.

    ``build`` is what the system has at least afterwards: ``22631``. ``drivers`` and ``languages`` are folders below
    ``extras/`` that the setup is handed; ``fetch`` lets it fetch newer parts of itself. ``trial = false`` leaves the
    trial out. ``notice`` is how long a person has to save before the restart, with ``text``. ``arguments`` are more for
    the setup.
    """

    source: Text
    build: str
    trial: bool = True
    drivers: str = ""
    languages: str = ""
    fetch: bool = False
    notice: str = "15 min"
    text: str = ""
    arguments: str = ""

    def __post_init__(self) -> None:
        super().__post_init__()
        seconds(self.notice)
        if not re.fullmatch(r"\d{5}", self.build):
            raise ValueError('build is the number of a build, of five digits: build = "22631"')
        if self.run_as != "runner" or self.retries or self.probe or self.unless:
            raise ValueError("run_as, retries, probe and unless do not fit an upgrade of the system: what became of it "
                             "is judged by its build")  # fmt: skip
        if any(name and not in_extras(name) for name in (self.drivers, self.languages)):
            raise ValueError("drivers and languages are folders below extras/")


def there(build: str) -> RegistryRule:
    """The rule that the system has a build, or a later one."""
    return RegistryRule(key=CURRENT, name="CurrentBuild", version=f">={build}")


def line_of(step: SystemUpgradeStep, part: upgrade.SetupPart, build: int) -> str:
    """The setup's command line; ``build`` is that of the media."""
    words = [one.text for one in upgrade.switches(part, build)]
    words.append(f"/dynamicupdate {'enable' if step.fetch else 'disable'}")
    words += [f'/installdrivers "{packaged(step.drivers)}"'] if step.drivers else []
    words += [f'/installlangpacks "{packaged(step.languages)}"'] if step.languages else []
    words += [step.arguments] if step.arguments else []
    return f'"{packaged(step.source.rstrip("/"))}\\setup.exe" {" ".join(words)}'


class UpgradeData(ActionData, frozen=True):
    """``part`` is trial, upgrade or judge. The rest is what the script needs: ``setups`` are the setup's own programs,
    ``words`` those of its codes, ``held`` and ``pair`` expressions for its logs, the last three for the judge alone.
    """

    part: str
    setups: tuple[str, ...]
    words: dict[str, str]
    unknown: str
    held: str | msgspec.UnsetType = msgspec.UNSET
    build: int | msgspec.UnsetType = msgspec.UNSET
    logs: tuple[str, ...] | msgspec.UnsetType = msgspec.UNSET
    pair: str | msgspec.UnsetType = msgspec.UNSET
    phases: dict[str, str] | msgspec.UnsetType = msgspec.UNSET
    operations: dict[str, str] | msgspec.UnsetType = msgspec.UNSET


class SystemUpgradeKind(Kind[SystemUpgradeStep]):
    step = SystemUpgradeStep
    executed = ("simulation", "stand-in")  # the runner on the layer, with a stand-in of the setup
    needs = ("restart",)
    unseen = UNSEEN
    predicted = False

    def expand(self, step: SystemUpgradeStep, base: Path, kept: str) -> tuple[Step, ...]:
        """The trial, the setup, the restart, the look: none of the first three where the build is there already."""
        known, build = upgrade.facts(), int(step.build)
        # what the script asks of the machine and says stands once, in Python
        words = {str(upgrade.signed(code)): said for code, said in known.codes.items()}
        asked = UpgradeData("upgrade", SETUPS, words, upgrade.UNKNOWN, held=upgrade.HELD.pattern)
        trial = Action(
            "system-upgrade", "try whether the system can be upgraded", line_of(step, "trial", build),
            codes={str(upgrade.NOTHING_IN_THE_WAY): "done"}, data=replace(asked, part="trial").plain(),
        )  # fmt: skip
        setup = Action(
            "system-upgrade", f"upgrade the system to build {build}", line_of(step, "upgrade", build),
            codes={"0": "done", "3010": "done"}, data=asked.plain(),
        )  # fmt: skip
        seen = replace(
            asked, part="judge", held=msgspec.UNSET, build=build, logs=tuple(upgrade.TELLING),
            pair=upgrade.PAIR.pattern, phases=known.phases, operations=upgrade.operations(),
        )  # fmt: skip
        judge = MadeStep(
            action=Action("system-upgrade", "see what became of the system", data=seen.plain()), back="cannot",
            when=step.when, on_failure=step.on_failure, timeout=step.timeout or WITHIN,
        )  # fmt: skip
        files = tuple(name for name in (step.source, step.drivers, step.languages) if name)
        made = replace(judge, action=setup, files=files, codes=step.codes, unless=(there(step.build),))
        restart = RestartStep(
            where="always", notice=step.notice, text=step.text,
            when=step.when, on_failure=step.on_failure, unless=made.unless,
        )  # fmt: skip
        tried = (replace(made, action=trial, codes={}),) if step.trial else ()
        return (*tried, made, restart, judge)

    def resolve(self, step: SystemUpgradeStep, at: At) -> Action:
        raise NotImplementedError("what it is made into is carried out")

    def mistakes(self, step: SystemUpgradeStep, at: At) -> Iterator[tuple[str, str, str]]:
        try:
            folder = below(at.base, step.source, "extras")
            found = media.read(folder) if folder.is_dir() else None
        except YendoError as error:
            yield "from", str(error), "unpack the media there; yendo draft NAME MEDIA does"
            return
        if found is None or not found.setup:
            yield "from", f"{step.source} holds no media with a setup", "name the folder of whole media"
            return
        if found.missing:
            yield "from", f"parts of the media are missing: {', '.join(found.missing)}", "put them there"
        if not found.fits(step.build):
            yield "build", f"the media bring build {found.build}, not {step.build}", f'say build = "{found.build}"'
        if not step.trial:
            yield "trial", "nothing asks beforehand what stands in the way", "leave trial out"

    def perform(self, action: Action, host: Host) -> Result:
        own = UpgradeData.of(action)
        if own.part == "judge":
            return _judge(own, action.timeout, host)
        found = _at_work(host)
        if not _waited(host, action.timeout):
            return AGAIN
        if own.part == "upgrade":
            if found:  # one that an earlier run has started: a second one would only say that a restart is due
                return DONE
            host.own_folders(host.room)
            edition = host.session.facts.edition or ""
            host.session.write(rf"{host.room}\before.txt", f"{host.session.facts.windows}\t{edition}".encode())
        result = host.run(action)
        if result.meaning == "failed":
            code = upgrade.hexadecimal(result.code)
            host.tell(events.SetupSays(code, upgrade.words_of(result.code)))
            for name in upgrade.held_by(_logs(host, r"Panther\CompatData")):
                host.tell(events.UpgradeHeld(name))
        elif not _waited(host, action.timeout):
            return AGAIN
        return result


def _at_work(host: Host) -> bool:
    return any(host.session.is_running(name) for name in SETUPS)


def _waited(host: Host, limit: float) -> bool:
    """Waits until no setup of the system is at work; False where waiting ends before."""
    until, told = time.monotonic() + limit, False
    while _at_work(host):
        if not told:
            host.tell(events.SetupAtWork())
            told = True
        if time.monotonic() > until:
            host.tell(events.SetupSpared(limit))
            return False
        host.sleep(0.2)
    return True


def _logs(host: Host, head: str) -> Iterator[bytes]:
    """What the setup left whose path begins so, below its own folder."""
    top = host.expand(upgrade.LOGS)
    try:
        names = host.session.files_below(top + "\\" + head.rpartition("\\")[0])
    except NotCovered:
        names = []
    for name in sorted(names):
        if name.lower().startswith(f"{top}\\{head}".lower()):
            yield host.session.read(name) or b""


def _judge(own: UpgradeData, limit: float, host: Host) -> Result:
    """What became of the system: by its build and edition, and where it went back by the setup's own logs."""
    if not _waited(host, limit):
        return AGAIN
    found = host.session.facts
    mark = rf"{host.room}\before.txt"
    before = (host.session.read(mark) or b"").decode()
    host.session.remove(mark)
    if int(found.windows.split(".")[2]) >= (own.build or 0):
        edition = before.partition("\t")[2]
        if edition and edition != (found.edition or ""):
            host.tell(events.EditionChanged(edition, found.edition or ""))
            return Result("failed", STEP_FAILED)
        host.tell(events.Upgraded(found.windows, found.edition or ""))
        return DONE
    top = host.expand(upgrade.LOGS)
    where = upgrade.went_back(host.session.read(rf"{top}\{name}") or b"" for name in upgrade.TELLING)
    if where is None:
        host.tell(events.NotUpgraded(found.windows))
        return Result("failed", STEP_FAILED)
    code = upgrade.signed(where.code)
    host.tell(events.WentBack(found.windows, where.phase, where.operation, where.code, upgrade.words_of(code)))
    return Result("failed", code)
