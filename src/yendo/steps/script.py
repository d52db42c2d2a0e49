"""Steps that run a script of the packager's own."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Literal

from yendo.errors import Usage
from yendo.platforms.windows import command_lines
from yendo.steps.base import Action, At, Kind, Result, Step, brought, packaged
from yendo.steps.exe import run_or_assume
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


class ScriptStep(Step, tag="script", frozen=True, rename={"source": "run"}, kw_only=True):
    """Runs a script from ``extras/``: PowerShell (.ps1), a batch file (.cmd, .bat) or Windows Script Host (.vbs, .js).

    ``brings = "folder"`` takes everything that lies in its folder along. What it achieves is said by ``probe``: that is
    what a simulated machine takes for done, and what is looked at afterwards on every machine.
    """

    source: Text
    arguments: str = ""
    brings: Literal["file", "folder"] = "file"
    reverse: str = ""


HOSTS = {
    ".ps1": command_lines.script("{path}", "{arguments}"),
    ".cmd": command_lines.batch("{path}", "{arguments}"),
    ".bat": command_lines.batch("{path}", "{arguments}"),
    ".vbs": 'cscript.exe //B //NoLogo "{path}" {arguments}',
    ".js": 'cscript.exe //B //NoLogo "{path}" {arguments}',
}


def script_command(source: str, arguments: str) -> str:
    """The command line of a script. Raises Usage for a kind that no host runs."""
    ending = PurePosixPath(source.replace("\\", "/")).suffix.lower()
    if ending not in HOSTS:
        raise Usage(f"{source}: a script ends with {', '.join(HOSTS)}")
    return re.sub(r" +(?=\"$|$)", "", HOSTS[ending].format(path=packaged(source), arguments=arguments))


class ScriptKind(Kind[ScriptStep]):
    step = ScriptStep
    reversal = "cannot"
    executed = ("API layer",)

    def resolve(self, step: ScriptStep, at: At) -> Action:
        return Action("script", f"run {step.source}", script_command(step.source, step.arguments), reverse=step.reverse)

    def sources(self, step: ScriptStep, base: Path) -> list[Path]:
        name = step.source.replace("\\", "/")
        return brought(base, name.rpartition("/")[0] if step.brings == "folder" else name)

    def mistakes(self, step: ScriptStep, at: At) -> Iterator[tuple[str, str, str]]:
        if not step.probe:
            yield "run", "nobody can tell whether the script has done its work", "say with probe what it achieves"

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)
