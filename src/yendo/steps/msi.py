"""Steps that run the Windows Installer."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from yendo.errors import Usage, YendoError
from yendo.formats.msi import Database
from yendo.installers.msi import commandline, fitting, layers
from yendo.platforms.windows.registry_keys import pack_code
from yendo.steps import transforms
from yendo.steps.action import HiddenLine, MsiData
from yendo.steps.base import MSI_CODES, MSI_GONE, Action, At, Kind, Result, Step, below, packaged
from yendo.steps.exe import recording, recording_name, run_or_assume
from yendo.terms.amounts import Code, Text
from yendo.terms.changes import EnvironmentChange, PlannedChange, PropertyChange, RegistryChange
from yendo.terms.settings import PLACE, Setting, fill, names_in

if TYPE_CHECKING:
    from yendo.steps.host import Host


class MsiStep(Step, tag="msi", frozen=True, kw_only=True):
    """Runs the Windows Installer.

    ``media`` installs that file; ``product`` names a product code to remove or repair instead;
    ``patch`` applies that file to the product it is for. ``transforms`` are files below ``extras/``
    or ``media/``, applied in order (``:name`` for one inside the installer), before the transform
    that is made from ``change``.
    ``command`` replaces everything by a command line of one's own, in which ``{package}`` is the
    package's folder and ``{logs}`` the log folder.
    ``observed`` is the recording of a trial, where a setup program installed the product.
    """

    media: str | None = None
    product: Code | None = None
    patch: str | None = None
    transforms: tuple[Text, ...] = ()
    change: tuple[PlannedChange, ...] = ()
    properties: dict[str, str | int] = {}
    features: tuple[Text, ...] = ()
    arguments: str = ""
    command: str | None = None
    restart: Literal["suppress", "allow"] = "suppress"
    advertise: bool = False
    observed: str | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        given = [name for name in ("media", "product", "patch", "command") if getattr(self, name)]
        if len(given) != 1:
            raise ValueError(
                "an msi step has exactly one of media, product, patch and command"
                + (f", not {' and '.join(given)}" if given else "")
            )
        if (self.transforms or self.change) and not self.media:
            raise ValueError("transforms and changes belong to a step that installs media")
        if self.advertise and not self.media:
            raise ValueError("advertise belongs to a step that installs media")
        for change in self.change:
            _check_places(change)


def _check_places(change: PlannedChange) -> None:
    """Raises ValueError where a setting cannot stand: a transform is made before its value is known."""
    names = names_in(change)
    if isinstance(change, PropertyChange) and names and not commandline.PUBLIC_NAME.fullmatch(change.name):
        raise ValueError(
            f"property {change.name} is private, so no value can be given at delivery; only names in capitals can"
        )
    rest = (
        msgspec.structs.replace(change, value="")
        if isinstance(change, (PropertyChange, RegistryChange, EnvironmentChange))
        else change
    )
    if names_in(rest):
        raise ValueError("a setting can stand in the value of a property, registry or environment change only")


def delivered(step: MsiStep) -> MsiStep:
    """The step as far as its transform can be made before delivery.

    A property that is set to a setting goes onto the command line; what else a change writes refers to a property of
    its own, ``SETTING_NAME``, which the command line gives. Source: the Value columns of Registry and Environment are
    Formatted.
    """
    properties, change = dict(step.properties), []
    for one in step.change:
        names = names_in(one)
        if isinstance(one, PropertyChange) and names:
            properties[one.name] = str(one.value)
            continue
        if isinstance(one, (RegistryChange, EnvironmentChange)) and names:
            properties |= {f"SETTING_{name.upper()}": f"{{setting.{name}}}" for name in sorted(names)}
            value = fill(one.value, lambda text: PLACE.sub(lambda match: f"[SETTING_{match[2].upper()}]", text))
            one = msgspec.structs.replace(one, value=tuple(value) if isinstance(value, list) else value)
        change.append(one)
    return msgspec.structs.replace(step, properties=properties, change=tuple(change)) if names_in(step.change) else step


def secret_properties(step: MsiStep, settings: Mapping[str, Setting]) -> list[str]:
    """The properties of an installation whose values are secret settings; those of a command line of one's own are not
    looked at.
    """
    if step.command or not step.media:
        return []
    secret = {name for name, setting in settings.items() if setting.secret}
    return [name for name, value in delivered(step).properties.items() if names_in(value) & secret]


def product_code(path: Path) -> str | None:
    """The code of the product that a database installs; None where it cannot be read."""
    with contextlib.suppress(YendoError, OSError), Database(path) as database:
        return str(fitting.facts(database).get("ProductCode", "")).upper() or None
    return None


def written_transform(verb: str, number: int) -> str:
    """Where the transform that is made from a step's changes lies in the package; steps count from 1."""
    return f"transforms/{verb}-{number}.mst"


def transforms_of(at: At) -> list[str]:
    """The transforms of a step as its command line names them, in order.

    A patch step names those of the step that installed the product: where the installer keeps no
    record of them, a patch would put back what they leave out.
    """
    step = at.step
    if isinstance(step, MsiStep) and step.patch:
        earlier = [
            number
            for number, other in enumerate(at.steps[: at.number - 1], 1)
            if isinstance(other, MsiStep) and other.media
        ]
        return transforms_of(At(at.base, at.verb, earlier[-1], at.steps)) if earlier else []
    if not isinstance(step, MsiStep):
        return []
    names = [*step.transforms, *([written_transform(at.verb, at.number)] if delivered(step).change else [])]
    return [name if name.startswith(":") else packaged(name) for name in names]


def told_again(at: At) -> dict[str, str]:
    """The properties with settings that a patch or a repair has to be told again, lest it puts the installer's own
    values back.

    A transform is on record with the Windows Installer and comes back by itself; what stood on a command line is not.
    Secrets are left out: a patch and a repair have no way round a visible command line.
    """
    step, base = at.step_of(MsiStep), None
    if step.patch:
        base = next(
            (one for one in reversed(at.steps[: at.number - 1]) if isinstance(one, MsiStep) and one.media), None
        )
    elif at.verb == "repair":
        installs = [one for one in at.install if isinstance(one, MsiStep) and one.media]
        same = (
            one
            for one in installs
            if one.media == step.media
            or (step.product and product_code(at.base / "media" / str(one.media)) == step.product)
        )
        base = next(same, None)
    if base is None:
        return {}
    secret = {name for name, setting in at.settings.items() if setting.secret}
    return {
        name: str(value)
        for name, value in delivered(base).properties.items()
        if names_in(value) and not names_in(value) & secret
    }


def command(at: At, log: str | None = None) -> str:
    """The command line of an msi step, with the placeholders of the package's and the log folder."""
    written = at.step_of(MsiStep)
    step = delivered(written)
    if step.command:
        return step.command
    hidden = secret_properties(written, at.settings) if at.verb == "install" else []
    given = told_again(at) | {name: value for name, value in step.properties.items() if name not in hidden}
    where = rf"{{logs}}\{log}" if log else None
    suppress, applied = step.restart == "suppress", transforms_of(at)
    if step.patch:
        return commandline.patch(
            packaged(f"media/{step.patch}"),
            properties=given,
            transforms=applied,
            log=where,
            suppress_restart=suppress,
            arguments=step.arguments,
        )
    target = packaged(f"media/{step.media}") if step.media else step.product or ""
    if at.verb == "install" and step.media:
        return commandline.install(
            target,
            properties=given,
            features=step.features,
            transforms=applied,
            log=where,
            suppress_restart=suppress,
            arguments=step.arguments,
            advertise=step.advertise,
        )
    make = commandline.repair if at.verb == "repair" else commandline.uninstall
    line = make(target, log=where, suppress_restart=suppress, arguments=step.arguments)
    return " ".join([line, *(commandline.assign(name, str(value)) for name, value in given.items())])


class Twice(msgspec.Struct, frozen=True):
    """A property that is set in two places: what stands on the command line wins, and the other decision is lost.

    ``by``: ``change`` with the change's position, or the name of the transform that sets it.
    """

    name: str
    given: str
    by: str
    value: str
    position: int = -1


def said_twice(step: MsiStep, workspace: Path) -> list[Twice]:
    """The properties that a step sets both for its command line and by a change or a transform. Raises Usage,
    Unreadable, Refused.

    Source: the Windows Installer takes the command line's value over that of a transform's Property table.
    """
    given = {name: str(value) for name, value in step.properties.items()}
    found = [
        Twice(one.name, given[one.name], "change", str(one.value), position)
        for position, one in enumerate(step.change)
        if isinstance(one, PropertyChange) and one.name in given
    ]
    if given and step.transforms:
        with Database(below(workspace, f"media/{step.media}", "media")) as database:
            at: Database = database
            for transform, name in zip(transforms.given(workspace, step), step.transforms, strict=True):
                before, at = fitting.facts(at), layers.apply_transforms(at, [transform])
                after = fitting.facts(at)
                found += [
                    Twice(key, given[key], name, after[key])
                    for key in given
                    if key in after and after[key] != before.get(key)
                ]
    return found


def recording_of(step: MsiStep, at: At) -> bytes:
    """Raises Usage."""
    line = command(at, f"{at.verb}-{at.number}-msi.log")
    return recording(at, line, observed=step.observed or "", media=step.media or "", product=step.product or "")


class MsiKind(Kind[MsiStep]):
    step = MsiStep
    reversal = "by steps"
    executed = ("API layer", "simulation")

    def resolve(self, step: MsiStep, at: At) -> Action:
        log = f"{at.verb}-{at.number}-msi.log"
        own = self._own(step, at, log)
        return Action(
            "msi",
            f"apply {step.patch}"
            if step.patch
            else f"{at.verb} {step.media or step.product or 'by a command of the plan'}",
            command(at, log),
            codes=MSI_CODES | (MSI_GONE if at.verb == "uninstall" else {}),
            log=log if not step.command else "",
            observed=recording_name(at.verb, at.number) if step.observed else "",
            data=own.plain(),
            temporary_reverse=f"msiexec.exe /x {own.product} /qn /norestart" if own.product else "",
        )

    def _own(self, step: MsiStep, at: At, log: str) -> MsiData:
        code = self._product(step, at)
        own = MsiData(code, pack_code(code)) if code else MsiData()
        names = secret_properties(step, at.settings) if at.verb == "install" else []
        return msgspec.structs.replace(own, hidden=self._hidden(step, at, names, log)) if names else own

    @staticmethod
    def _hidden(step: MsiStep, at: At, names: list[str], log: str) -> HiddenLine:
        """What is handed over beside the command line: everything that stands on it, and ``secret``, what must not."""
        line = commandline.parse(command(at, log))
        full = delivered(step).properties
        secret = " ".join(commandline.assign(name, str(full[name])) for name in names)
        public = " ".join(commandline.assign(name, value) for name, value in line.properties.items())
        reboot = "REBOOT=ReallySuppress" if step.restart == "suppress" else ""
        together = " ".join(part for part in (public, reboot, secret) if part)
        return HiddenLine(line.package, rf"{{logs}}\{log}", together, secret)

    @staticmethod
    def _product(step: MsiStep, at: At) -> str | None:
        """The product whose removal undoes an installation that its run does not finish."""
        path = at.base / "media" / (step.media or "")
        return product_code(path) if at.verb == "install" and step.media and not step.advertise else None

    def sources(self, step: MsiStep, base: Path) -> list[Path]:
        named = [path for path in transforms.given(base, step) if isinstance(path, Path)]
        return [path for path in named if path.is_relative_to(base / "extras")]

    def made(self, step: MsiStep, at: At) -> dict[str, bytes]:
        try:
            for one in said_twice(step, at.base):
                by = "a change of the same step" if one.by == "change" else one.by
                raise Usage(
                    f"property {one.name} is {one.given!r} on the command line of {step.media} and {one.value!r} by "
                    f"{by}; say it once"
                )
        except layers.Refused as refused:
            raise Usage(refused.message) from refused
        found = (
            {written_transform(at.verb, at.number): transforms.made(at.base, delivered(step))}
            if delivered(step).change
            else {}
        )
        if step.observed:
            found[recording_name(at.verb, at.number)] = recording_of(step, at)
        return found

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)

    def undo(self, step: MsiStep) -> tuple[Step, ...]:
        """Nothing here: the product's code stands in its database, which whoever derives the uninstall has open."""
        return ()

    def mistakes(self, step: MsiStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.advertise and at.verb != "install":
            yield "advertise", "only an install can advertise", "take it out"
