"""Steps that remove what was there before: found by code or by name, removed by its own quiet uninstall."""

from __future__ import annotations

import re
from collections.abc import Iterator
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING

from yendo.effects.things import UninstallEntry
from yendo.facts.versions import VersionRange
from yendo.installers.msi.commandline import PRODUCT_CODE
from yendo.platforms.windows.registry_keys import pack_code
from yendo.steps.base import MSI_CODES, MSI_GONE, NOT_NEEDED, Action, ActionData, At, Kind, Meaning, Result, Step
from yendo.steps.host import STEP_FAILED
from yendo.terms import events
from yendo.terms.amounts import Code
from yendo.terms.rules.base import bounds

if TYPE_CHECKING:
    from yendo.steps.host import Host


class RemovePreviousStep(Step, tag="remove-previous", frozen=True, kw_only=True):
    """Finds what was installed before and removes it quietly; where nothing is found, nothing is done.

    By ``product`` code, by ``upgrade_code``, or by ``name`` in the list of installed programs (``*`` stands for any
    text); ``version`` limits which. An entry without a quiet uninstall of its own is removed by its usual one with
    ``arguments``.
    """

    product: Code | None = None
    upgrade_code: Code | None = None
    name: str | None = None
    publisher: str | None = None
    version: str | None = None
    arguments: str = ""

    def __post_init__(self) -> None:
        super().__post_init__()
        if sum(bool(way) for way in (self.product, self.upgrade_code, self.name)) != 1:
            raise ValueError("a remove-previous step has exactly one of product, upgrade_code and name")
        if self.version:
            VersionRange.parse(self.version)


class PreviousData(ActionData, frozen=True, kw_only=True):
    """``upgrade`` is the packed form of ``upgrade_code``; ``version`` are the bounds of a range."""

    product: str = ""
    upgrade: str = ""
    upgrade_code: str = ""
    name: str = ""
    publisher: str = ""
    version: tuple[dict[str, str], ...] = ()
    arguments: str = ""
    codes: dict[str, Meaning] = {}


class RemovePreviousKind(Kind[RemovePreviousStep]):
    step = RemovePreviousStep
    reversal = "nothing to undo"  # what was there before is not what the package brings
    executed = ("API layer", "simulation")

    def resolve(self, step: RemovePreviousStep, at: At) -> Action:
        data = PreviousData(
            product=(step.product or "").upper(),
            upgrade=pack_code(step.upgrade_code) if step.upgrade_code else "",
            upgrade_code=(step.upgrade_code or "").upper(),
            name=step.name or "",
            publisher=step.publisher or "",
            version=tuple(bounds(step.version)),
            arguments=step.arguments,
            codes={**MSI_CODES, **MSI_GONE},
        )
        named = step.name or step.product or step.upgrade_code
        return Action("remove-previous", f"remove earlier {named}", data=data.plain())

    def perform(self, action: Action, host: Host) -> Result:
        own = PreviousData.of(action)
        found = sorted(_matching(own, host), key=lambda entry: entry.identity)
        if not found:
            host.tell(events.NoEntryFound())
            return NOT_NEEDED
        final = "done"
        for entry in found:
            host.tell(events.EntryFound(entry.name or entry.key, entry.version or ""))
            line = quiet(entry, own.arguments)
            if not line:
                host.tell(events.NoQuietUninstall())
                return Result("failed", STEP_FAILED)
            code, _ = host.call(host.expand(line), action.timeout)
            meaning = host.meaning(own.codes, code)
            if meaning in ("failed", "again later"):
                return Result(meaning, code)
            if meaning in ("restart", "restarting"):
                final = meaning
        return Result(final)

    def mistakes(self, step: RemovePreviousStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.name and not step.name.replace("*", "").strip():
            yield "name", "the pattern fits every program", "name the program"
        elif step.name and step.name.startswith("*") and not step.publisher:
            yield "name", f"{step.name} fits programs of anybody", "say its publisher too"


def quiet(entry: UninstallEntry, arguments: str) -> str:
    """The quiet uninstall of an entry, or nothing."""
    if PRODUCT_CODE.fullmatch(entry.key) and re.search(r"(?i)\bmsiexec", entry.uninstall or "msiexec"):
        return f"msiexec.exe /x {entry.key} /qn /norestart"
    if entry.quiet_uninstall:
        return started(entry.quiet_uninstall)
    return f"{started(entry.uninstall)} {arguments}" if entry.uninstall and arguments else ""


def started(line: str) -> str:
    """A command line with its program in quotes, also where the vendor forgot them."""
    match = re.match(r"(?i)([^\"]*?\.exe)(\s|$)", line)
    return f'"{match[1]}"{line[match.end(1) :]}' if match and " " in match[1] else line


def _matching(own: PreviousData, host: Host) -> Iterator[UninstallEntry]:
    related = host.session.related(own.upgrade_code) if own.upgrade_code else ()
    for thing in host.session.state().of("uninstall-entry"):
        assert isinstance(thing, UninstallEntry)
        if own.product and thing.key.upper() != own.product:
            continue
        if own.upgrade_code and thing.key.upper() not in related:
            continue
        if own.name and not fnmatchcase(
            (thing.name or "").lower(), own.name.lower().replace("[", "[[]").replace("?", "[?]")
        ):
            continue
        if own.publisher and (thing.publisher or "").lower() != own.publisher.lower():
            continue
        if not VersionRange.of(own.version).fits(thing.version):
            continue
        yield thing
