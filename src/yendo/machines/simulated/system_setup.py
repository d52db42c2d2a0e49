"""The setup of the system's own media on the simulated machine: its trial, the upgrade, and the way back.

What it asks of a machine is taken from its documentation and from what the media say of themselves; it lays no file.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from yendo.effects import RegistryValue, State
from yendo.effects.things import View
from yendo.errors import Unreadable
from yendo.facts.machine import Facts
from yendo.machines.protocol import Ran
from yendo.platforms.windows import systems
from yendo.servicing import media, upgrade
from yendo.servicing.media import SystemMedia
from yendo.terms.amounts import size

CANNOT_KEEP, TOO_SMALL, NO_ROOM, HELD = map(upgrade.signed, ("0xC1900204", "0xC1900200", "0xC190020E", "0xC1900208"))


class SystemSetup(msgspec.Struct):
    """``pending`` is the build that the machine becomes at its next restart. ``goes_back`` is where it will go back
    instead, as the second code of its log has it (``0x30018``); ``held`` what its trial finds in the way.
    """

    pending: str = ""
    edition: str = ""
    goes_back: str = ""
    held: str = ""

    def run(self, program: Path | None, line: str, facts: Facts, write: Callable[[str, bytes], None]) -> Ran | None:
        """Carries it out; None where the program is no setup of media. Where several builds may be meant that differ
        by a switch, it is the latest.
        """
        if program is None or program.name.lower() != "setup.exe":
            return None
        try:
            found = media.read(program.parent)
        except Unreadable:
            return None
        if found is None or not found.images:
            return None
        code = self._in_the_way(found, facts)
        if code:
            if code == HELD:
                write(r"C:\$WINDOWS.~BT\Sources\Panther\CompatData_1.xml", _report(self.held))
            return Ran(code, "predicted from what the media say", 0.0)
        if "/compat scanonly" in line.lower():
            return Ran(upgrade.NOTHING_IN_THE_WAY, "predicted from what the media say", 0.0)
        own = next(one for one in found.images if not facts.edition or one.edition == facts.edition)
        build = max(found.builds or (own.build.split(".")[2],), key=int)
        revision = own.build.split(".")[3] if own.build.count(".") > 2 else "1"
        self.pending, self.edition = f"10.0.{build}.{revision}", own.edition
        return Ran(0, "the machine becomes it at its restart", 0.0)

    def _in_the_way(self, found: SystemMedia, facts: Facts) -> int:
        fitting = [
            one
            for one in found.images
            if (one.processor == facts.architecture or not one.processor)
            and (one.edition == facts.edition or not facts.edition)
            and (not one.languages or not facts.language or facts.language in one.languages)
        ]
        if not fitting:
            return CANNOT_KEEP
        memory, disk = size(upgrade.MEMORY), size(upgrade.DISK)
        if int(found.build or 0) >= upgrade.NEW_DEMANDS and (facts.memory or memory) < memory:
            return TOO_SMALL
        if facts.disks.get("C", disk) < disk:
            return NO_ROOM
        return HELD if self.held else 0

    def restarted(self, facts: Facts, state: State, write: Callable[[str, bytes], None]) -> Facts:
        """What the machine is after a restart."""
        if not self.pending:
            return facts
        build, edition, self.pending = self.pending, self.edition, ""
        if self.goes_back:
            text = f"Info  result: [{upgrade.hexadecimal(upgrade.WENT_BACK)}], extend: [{self.goes_back}]\r\n"
            write(r"C:\$WINDOWS.~BT\Sources\Rollback\setupact.log", text.encode())
            return facts
        number = build.split(".")[2]
        release = systems.of_build(build)
        values: dict[tuple[str, str], str | int] = {
            **({key: data for key, data in release.registry.items() if key[0] == systems.CURRENT_KEY}
               if str(release.build) == number else {}),
            (systems.CURRENT_KEY, "CurrentBuild"): number, (systems.CURRENT_KEY, "CurrentBuildNumber"): number,
            (systems.CURRENT_KEY, "EditionID"): edition,
        }  # fmt: skip
        for (key, name), data in values.items():
            kind = "dword" if isinstance(data, int) else "sz"
            views: tuple[View, ...] = ("64", "32")
            for new in (RegistryValue("HKLM", key, name, kind, data, view) for view in views):
                if state.get("registry", new.identity):
                    state.add(new)
        return msgspec.structs.replace(facts, windows=build, edition=edition or facts.edition)


def _report(held: str) -> bytes:
    return (
        f'<CompatReport><Programs><Program Name="{held}"><CompatibilityInfo BlockingType="Hard"/></Program></Programs>'
        "</CompatReport>"
    ).encode()
