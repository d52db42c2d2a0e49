"""Plans for setup programs: the steps that reading proposes, and what a trial has found put in their place."""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import msgspec
import tomlkit
from tomlkit.items import Table

from yendo import atomic
from yendo.detect import for_effects
from yendo.draft import writing
from yendo.effects import Effect, File, UninstallEntry
from yendo.errors import Unreadable, Usage
from yendo.evidence import Evidence
from yendo.installers import programs
from yendo.installers.account import CommandLine, InstallerAccount, Switch
from yendo.installers.msi.describe import baseline
from yendo.machines.protocol import BROUGHT
from yendo.plan import ExeStep, Rule
from yendo.platforms.windows import paths
from yendo.platforms.windows.recording import Recording
from yendo.platforms.windows.surroundings import expand, windows
from yendo.steps.exe import exe_command

TRIED_IN = paths.into(BROUGHT)  # where a trial puts the installer on its machines
_FOLDER = "/D="
_LINE = re.compile(r'\s*"([^"]+)"\s*(.*)$')


def steps(account: InstallerAccount, installer: str, decide: str, decisions: list[str]) -> tuple[Table, Table | None]:
    """The install and the uninstall step of a setup program, as far as reading knows them."""
    install = tomlkit.table()
    install.add("kind", "exe")
    install.add("media", installer)
    line = account.silent.install
    for switch in line.switches if line else ():
        if switch.switch == _FOLDER:
            install.add(tomlkit.comment(switch.meaning))
    if line is None:
        install.add("arguments", "")
        install["arguments"].comment(f"{decide}: the silent switch; yendo try finds it")
        decisions.append(
            f"install.arguments: no silent switch is known from reading; yendo try {installer} --into the workspace "
            "finds it"
        )
    else:
        install.add("arguments", writing.literal(_arguments(line)))
        install["arguments"].comment(f"{line.confidence}: {line.evidence}")
        if line.confidence != "certain":
            install["arguments"].comment(
                f"{decide}: {line.confidence}, from {line.evidence.where}; yendo try proves it"
            )
            decisions.append(
                f"install.arguments: {line.command} is {line.confidence}; yendo try {installer} --into the workspace "
                "proves it"
            )
    install.add("timeout", "30 min")
    back, away = removal(account.silent.uninstall), account.silent.uninstall
    if back is not None and away is not None and away.confidence == "to be tried":
        back["kind"].comment(f"{decide}: {away.confidence}, from {away.evidence.where}; yendo try proves it")
        decisions.append(
            f"uninstall: {away.command} is {away.confidence}; yendo try {installer} --into the workspace proves it"
        )
    return install, back


def placed(account: InstallerAccount, installer: Path, name: str) -> tuple[InstallerAccount, str]:
    """The account of a setup that would install into the folder it stands in, sent to a folder of its own; and that
    folder.

    ``name`` is the product's. The folder is empty where the account stays as it is: the setup has a place, or its
    script leaves nobody a choice. What it does there is read from the script again, with the switch. Raises Unreadable.
    """
    line = account.silent.install
    if account.family != "script-exe" or line is None or not _beside(account.effects):
        return account, ""
    folder = "%ProgramFiles%\\" + (re.sub(r"[^\w .()+-]+", " ", name).strip(" .") or "program")
    around = windows()
    with installer.open("rb") as file:
        given = expand(f"{_arguments(line)} {_FOLDER}{folder}", around.environment)
        found = programs.Reading(file, installer.name).predict(
            TRIED_IN + installer.name, given, around, baseline(around)
        )
    if _beside(found.effects):
        return account, ""
    why = (
        f"by itself it installs into the folder it stands in; {_FOLDER} is where it goes instead, and may be any other"
    )
    switches = (*line.switches, Switch(_FOLDER, why, "certain", line.evidence))
    command = msgspec.structs.replace(line, command=f"{line.command} {_FOLDER}{folder}", switches=switches)
    silent = msgspec.structs.replace(account.silent, install=command)
    return msgspec.structs.replace(account, silent=silent, effects=tuple(found.effects)), folder


def _beside(effects: Iterable[Effect]) -> bool:
    return any(
        isinstance(effect.thing, File) and effect.thing.path.lower().startswith(TRIED_IN.lower()) for effect in effects
    )


def _arguments(line: CommandLine) -> str:
    match = _LINE.match(line.command)
    return match[2] if match else line.command


def tried(line: CommandLine | None, installer: Path) -> str | None:
    """A setup's command line as it is carried out where trials put it."""
    if line is None:
        return None
    return line.command.replace(f'"{installer.name}"', f'"{TRIED_IN}{installer.name}"', 1)


def removal(line: CommandLine | None) -> Table | None:
    """A step that runs a command line on the machine: the Windows Installer's, or a program's."""
    if line is None:
        return None
    table = tomlkit.table()
    if match := re.match(r"(?i)msiexec(?:\.exe)?\s+/x\s*(\{[0-9a-f-]{36}\})", line.command):
        table.add("kind", "msi")
        table.add("product", match[1])
    else:
        found = _LINE.match(line.command)
        if found is None:
            return None
        table.add("kind", "exe")
        table.add("program", writing.literal(found[1]))
        if found[2]:
            table.add("arguments", writing.literal(found[2]))
        if line.wait_for:
            table.add("wait_for", list(line.wait_for))
            table["wait_for"].comment("a copy of itself goes on after it has returned")
    table.add("timeout", "30 min")
    return table


def _moved(text: str) -> str:
    """A command line's arguments with what lay beside the installer in the package's own places."""
    text = re.sub(re.escape(TRIED_IN) + r"([^\"\\]+\.log)", r"{logs}\\\1", text, flags=re.I)
    return re.sub(re.escape(TRIED_IN) + r"([^\"\\]+\.iss)", r"{package}\\extras\\\1", text, flags=re.I)


def _rules(effects: Sequence[Effect]) -> list[Rule]:
    """Detection by what was observed: by the program itself, and not by what removes it."""
    removes = (effect.thing.uninstall or "" for effect in effects if isinstance(effect.thing, UninstallEntry))
    entries = " ".join(removes).lower()
    placed = (
        effect.thing.identity for effect in effects if effect.kind == "file" and effect.thing.identity.endswith(".exe")
    )
    return for_effects(effects, [paths.name(path) for path in placed if path not in entries])


def take_over(workspace: Path, keep: Path) -> None:
    """Puts what a trial has found into a plan: command lines, whom to wait for, detection, recordings.

    Raises Usage, Unreadable.
    """
    try:
        trial = json.loads((keep / "evidence.json").read_bytes())["trial"]
    except (OSError, ValueError, KeyError) as error:
        raise Usage(f"{keep} holds no trial: {error}") from error
    if not trial.get("install"):
        raise Usage("the trial has found no silent command line, so the plan stays as it is")
    path = workspace / "plan.toml"
    document = tomlkit.parse(path.read_text("utf-8"))
    index = next(
        (
            at
            for at, step in enumerate(writing.part(document, "install"))
            if step.get("kind") == "exe" and step.get("media") == trial["installer"]
        ),
        None,
    )
    if index is None:
        raise Usage(f"{path} has no exe step that runs {trial['installer']}")
    for name in (trial.get("recorded_answers"), trial.get("recorded_removal")):
        if name:
            shutil.copyfile(keep / name, workspace / "extras" / name)
    step = writing.part(document, "install")[index]
    best = next(run for run in trial["runs"] if run["purpose"] == "install" and run["command"] == trial["install"])
    _fill(step, trial, best, keep, workspace, "install")
    if trial.get("uninstall"):
        best = next(
            run for run in trial["runs"] if run["purpose"] == "uninstall" and run["command"] == trial["uninstall"]
        )
        table = removal(CommandLine(_moved(trial["uninstall"]), "certain", Evidence("run", "trial")))
        if table is not None:
            table["kind"].comment(_said(best, trial))
            if table["kind"] == "exe":
                _fill(table, trial, best, keep, workspace, "uninstall")
            else:
                _keep_recording(
                    table, _recording(keep / "observed-uninstall.json"), workspace, "observed-uninstall.json"
                )
            document["uninstall"] = writing.array(table)
    if rules := _rules(_recording(keep / "observed-install.json").effects):
        document["detect"] = writing.rules_of(rules)
    text = re.sub(
        r"(?m)^# DECIDE: (?:how it is removed|no detection could be derived).*\n", "", tomlkit.dumps(document)
    )
    atomic.write(path, writing.spaced(text).encode())


def _said(run: dict[str, object], trial: dict[str, object]) -> str:
    return f"{run['verdict']} in a trial of {str(run['date'])[:10]} on {trial['machine']}"


def _fill(
    step: Table, trial: dict[str, object], run: dict[str, object], keep: Path, workspace: Path, purpose: str
) -> None:
    match = _LINE.match(str(run["command"]))
    arguments = _moved(match[2] if match else "")
    step["arguments"] = writing.literal(arguments)
    step["arguments"].comment(_said(run, trial))
    outlived: Any = run["outlived"]
    if outlived:
        step["wait_for"] = [str(name) for name in outlived]
        step["wait_for"].comment(f"it returns {run['returned_early']} s before they have ended")
    name = f"observed-{purpose}.json"
    recording = _recording(keep / name)
    model = msgspec.convert(
        {key: value for key, value in step.unwrap().items() if key in ("kind", "media", "program", "arguments")},
        ExeStep,
    )
    step["timeout"] = proposed(recording.seconds)
    step["timeout"].comment(f"proposed: the trial's run took {recording.seconds:.0f} s")
    kept = msgspec.structs.replace(recording, command=exe_command(model))
    _keep_recording(step, kept, workspace, name)


def proposed(seconds: float) -> str:
    """A time limit for a step whose run was measured: ten times as long, as slower machines need it, and never below
    five minutes.
    """
    return f"{max(5, -(-10 * seconds // 60)):.0f} min"


def _keep_recording(step: Table, kept: Recording, workspace: Path, name: str) -> None:
    (workspace / "trial").mkdir(exist_ok=True)
    atomic.write(workspace / "trial" / name, msgspec.json.format(msgspec.json.encode(kept), indent=1) + b"\n")
    step["observed"] = f"trial/{name}"


def _recording(path: Path) -> Recording:
    try:
        return msgspec.json.decode(path.read_bytes(), type=Recording)
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise Unreadable(f"{path}: {error}") from error
