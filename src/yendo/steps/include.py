"""Steps that carry out another package of Yendo's, which lies inside this one."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from yendo.errors import Usage
from yendo.platforms.windows import command_lines, paths
from yendo.steps.base import MSI_CODES, Action, ActionData, At, Kind, Result, Step, below, brought, packaged
from yendo.steps.exe import run_or_assume
from yendo.terms.amounts import Identifier, Text
from yendo.terms.settings import Name, SettingValue, names_in
from yendo.terms.when import in_words

if TYPE_CHECKING:
    from yendo.steps.host import Host

NOT_APPLICABLE = 20


class IncludeStep(Step, tag="include", frozen=True, rename={"source": "package"}, kw_only=True):
    """Carries out a built package that lies in a folder below ``extras/``, by its own runner, with the verb of this
    list.

    ``settings`` are values for settings of that package, beside those of its ``site``; a secret cannot be handed on, as
    everybody sees a command line.
    """

    source: Text
    verb: Literal["install", "uninstall", "repair"] | None = None
    site: Identifier | None = None
    settings: dict[Name, SettingValue] = {}

    def __post_init__(self) -> None:
        super().__post_init__()
        if any(";" in str(value) or '"' in str(value) for value in self.settings.values()):
            raise ValueError("a semicolon or a quotation mark cannot stand in a value that is handed on")


class IncludeData(ActionData, frozen=True):
    folder: str
    verb: str
    settings: dict[str, str] | msgspec.UnsetType = msgspec.UNSET
    site: str | msgspec.UnsetType = msgspec.UNSET


class IncludeKind(Kind[IncludeStep]):
    step = IncludeStep
    reversal = "by steps"
    executed = ("API layer", "simulation")

    def resolve(self, step: IncludeStep, at: At) -> Action:
        verb = step.verb or at.verb
        folder = packaged(step.source.rstrip("/\\"))
        given = {name: in_words(value) for name, value in step.settings.items()}
        more = (f" -Site {step.site}" if step.site else "") + (
            f' -Set "{"; ".join(f"{name}={value}" for name, value in given.items())}"' if given else ""
        )
        return Action(
            "include",
            f"{verb} the package in {step.source}",
            command_lines.batch(paths.join(folder, "apply.cmd"), verb + more),
            codes={**MSI_CODES, str(NOT_APPLICABLE): "not needed"},
            data=IncludeData(
                step.source.rstrip("/\\").replace("\\", "/"), verb, given or msgspec.UNSET, step.site or msgspec.UNSET
            ).plain(),
        )

    def sources(self, step: IncludeStep, base: Path) -> list[Path]:
        folder = below(base, step.source, "extras")
        if not (folder / "manifest.json").is_file():
            raise Usage(
                f"{step.source} is no built package: it has no manifest.json; build it, and put its folder there"
            )
        return brought(base, step.source)

    def perform(self, action: Action, host: Host) -> Result:
        if host.carry_other is None:
            return run_or_assume(action, host)
        own = IncludeData.of(action)
        code = host.carry_other(own.folder, own.verb, own.settings or {}, own.site or "")
        return Result(host.meaning(action.codes, code), code)

    def undo(self, step: IncludeStep) -> tuple[Step, ...]:
        return (IncludeStep(source=step.source, verb="uninstall", site=step.site, settings=step.settings),)

    def mistakes(self, step: IncludeStep, at: At) -> Iterator[tuple[str, str, str]]:
        try:
            self.sources(step, at.base)
        except Usage as error:
            yield "package", str(error), "put a built package's folder below extras/"
        secret = sorted(names_in(step.settings) & {name for name, setting in at.settings.items() if setting.secret})
        if secret:
            yield (
                "settings",
                f"{secret[0]} is secret, and would stand on a command line",
                "let the inner package take it from its own values.txt",
            )
