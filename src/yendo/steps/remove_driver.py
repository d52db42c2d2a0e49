"""Steps that take a driver out of the store that was there before."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from yendo.facts.versions import VersionRange
from yendo.formats import inf as form
from yendo.platforms.windows.registry_keys import DRIVER_NAMES
from yendo.steps.base import NOT_NEEDED, Action, ActionData, At, Kind, Meaning, Result, Step
from yendo.terms import events
from yendo.terms.amounts import Text, driver_name
from yendo.terms.rules.base import bounds, fits
from yendo.terms.rules.device import CLASSES, ENUM, IDENTIFIERS, texts

if TYPE_CHECKING:
    from yendo.steps.host import Host

_STORE = r"%SystemRoot%\System32\DriverStore\FileRepository"


class RemoveDriverStep(Step, tag="remove-driver", frozen=True, rename={"class_name": "class"}, kw_only=True):
    """Takes drivers out of the store, and off the devices that use them: all that fit, by the name of the ``.inf``, the
    provider, the class, the catalogue, and a range of versions, as the vendor's own file has them.

    For going back: an older driver does not replace a newer one. Where nothing is found, nothing is done. The name that
    the store gave it is looked up on the machine; several versions may be there under one name. What the system itself
    brought is never meant. ``devices`` are the identifiers of those that may lose it: a driver that any other device
    uses stays then.
    """

    inf: str = ""
    provider: str = ""
    class_name: str = ""
    catalogue: str = ""
    version: str | None = None
    devices: tuple[Text, ...] = ()

    def __post_init__(self) -> None:
        super().__post_init__()
        if not any((self.inf, self.provider, self.class_name, self.catalogue)):
            raise ValueError("inf, provider, class or catalogue says which drivers are meant")
        if self.inf:
            driver_name(self.inf)
        if self.version:
            VersionRange.parse(self.version)


class GoneDriverData(ActionData, frozen=True, kw_only=True):
    """``says`` are entries of the driver's own file with what they must be; ``version`` are the bounds of ``range``."""

    inf: str
    says: dict[str, str] = {}
    range: str | None = None
    version: tuple[dict[str, str], ...] = ()
    devices: tuple[str, ...] = ()
    codes: dict[str, Meaning]


class RemoveDriverKind(Kind[RemoveDriverStep]):
    step = RemoveDriverStep
    reversal = "nothing to undo"  # what was there before is not what the package brings
    executed = ("API layer", "simulation")

    def resolve(self, step: RemoveDriverStep, at: At) -> Action:
        # Source: the driver program's exit codes. 3010: a restart is needed.
        named = {"provider": step.provider, "class": step.class_name, "catalogfile": step.catalogue}
        words = [step.inf, *(f"{name.removesuffix('file')} {text}" for name, text in named.items() if text)]
        which = " ".join(filter(None, [*words, step.version]))
        data = GoneDriverData(
            inf=step.inf,
            says={name: text for name, text in named.items() if text},
            range=step.version,
            version=tuple(bounds(step.version)),
            devices=step.devices,
            codes={"0": "done", "3010": "restart"},
        )
        return Action("remove-driver", f"remove driver {which}", data=data.plain())

    def perform(self, action: Action, host: Host) -> Result:
        own = GoneDriverData.of(action)
        found = list(_matching(own, host))
        if not found:
            host.tell(events.NoEntryFound())
            return NOT_NEEDED
        final = "not needed"
        for name, inf, version in found:
            host.tell(events.EntryFound(inf, version))
            if own.devices and _needed(host, name, own.devices):
                host.tell(events.Left("another device uses it", name))
                continue
            code, _ = host.call(f"pnputil.exe /delete-driver {name} /uninstall", action.timeout)
            meaning = host.meaning(own.codes, code)
            if meaning == "failed":
                return Result(meaning, code)
            if final != "restart":
                final = meaning
        return Result(final)

    def mistakes(self, step: RemoveDriverStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.class_name and not (step.inf or step.provider or step.catalogue):
            yield (
                "class",
                f"every driver of the class {step.class_name} goes that did not come with Windows",
                "say whose: provider",
            )
        if "\\" in step.inf or "/" in step.inf:
            yield "inf", f"{step.inf} is a path", "the name of the .inf alone, as the vendor calls it"
        elif re.fullmatch(r"(?i)oem\d+\.inf", step.inf):
            yield (
                "inf",
                f"{step.inf} is the name that one machine's store gave it; on others it is another driver",
                "the name of the .inf as the vendor calls it",
            )


def _needed(host: Host, name: str, devices: tuple[str, ...]) -> bool:
    """Whether a device that is none of these uses the driver that the store calls so."""
    mine = {one.lower() for one in devices}
    for key in host.session.keys_below("HKLM", "64", ENUM):
        if key[len(ENUM) :].count("\\") != 3:
            continue
        place = host.session.get_value("HKLM", "64", key, "Driver")
        uses = host.session.get_value("HKLM", "64", rf"{CLASSES}\{place[1]}", "InfPath") if place else None
        if uses is None or str(uses[1]).lower() != name.lower():
            continue
        values = (host.session.get_value("HKLM", "64", key, name) for name in IDENTIFIERS)
        if not {one.lower() for value in values if value for one in texts(value[1])} & mine:
            return True
    return False


def _matching(own: GoneDriverData, host: Host) -> Iterator[tuple[str, str, str]]:
    """The names that the store gave to drivers that fit, each with the name and version of the driver's own file."""
    for key in sorted(host.session.keys_below("HKLM", "64", DRIVER_NAMES)):
        name = key.rpartition("\\")[2]
        if not re.fullmatch(r"(?i)oem\d+\.inf", name):
            continue  # the system's own
        value = host.session.get_value("HKLM", "64", key, "")
        for folder in texts(value[1]) if value else ():
            inf = folder[: folder.lower().find(".inf_") + 4]
            if own.inf and inf.lower() != own.inf.lower():
                continue
            stored = host.session.read(host.expand(rf"{_STORE}\{folder}\{inf}"))
            file = form.Inf(form.decode(stored or b""))
            told = file.all("Version", "DriverVer")
            version = told[0].value(1).strip() if told else ""
            if fits(version or None, own.range) and all(
                file.get("Version", key).lower() == text.lower() for key, text in own.says.items()
            ):
                yield name, inf, version
                break
