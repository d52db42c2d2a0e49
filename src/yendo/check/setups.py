"""The rules on setup programs: silent switches, those that return early, recordings that have gone stale."""

from __future__ import annotations

import re
from collections.abc import Iterator

from yendo.check.table import Report, rule
from yendo.check.workspace import Workspace
from yendo.errors import Usage, YendoError
from yendo.plan import ExeStep, MsiStep
from yendo.steps import exe, msi
from yendo.steps.exe import named_extras


def _setups(workspace: Workspace) -> Iterator[tuple[str, int, ExeStep]]:
    for verb, at, step in workspace.steps():
        if isinstance(step, ExeStep):
            yield verb, at, step


@rule("setup-missing", "error", "the step fails on every machine")
def setup_missing(workspace: Workspace) -> Report:
    known = {medium.file for medium in workspace.plan.media}
    for verb, at, step in _setups(workspace):
        if step.media and step.media not in known:
            yield (
                workspace.line(verb, at, "media"),
                f"{step.media} is not one of the [[media]]",
                "add it with its hash, or correct the name",
            )
        try:
            named_extras(workspace.folder, step.arguments)
        except Usage as error:
            yield workspace.line(verb, at, "arguments"), str(error), "put the file below extras/, or correct the path"


@rule("setup-not-silent", "error", "a window waits for a person who is not there")
def setup_not_silent(workspace: Workspace) -> Report:
    """Where reading is certain of the switches that make it silent, the step has them."""
    for verb, at, step in _setups(workspace):
        account = workspace.accounts.get(step.media or "")
        install = account.silent.install if account else None
        if verb != "install" or step.observed or install is None:
            continue
        for switch in install.switches:
            name = re.split(r'["<:=]', switch.switch)[0]
            if switch.confidence == "certain" and not re.search(rf"(?:^|\s){re.escape(name)}", step.arguments):
                yield (
                    workspace.line(verb, at, "arguments"),
                    f"{switch.switch} is missing: {switch.meaning}",
                    f"add it; all of it is {install.command}",
                )
                break


@rule("setup-untried", "warning", "nobody has seen this command line be silent and complete")
def setup_untried(workspace: Workspace) -> Report:
    for verb, at, step in _setups(workspace):
        account = workspace.accounts.get(step.media or "")
        sure = (
            account is not None
            and account.silent.install is not None
            and account.silent.install.confidence == "certain"
        )
        if not step.observed and not (step.media and sure):
            what = step.media or step.program
            yield (
                workspace.line(verb, at, "arguments"),
                f"{what} was never tried with these arguments",
                "yendo try SETUP --into the workspace",
            )


@rule("recording-stale", "error", "the simulated machine would replay what another command line did")
def recording_stale(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if isinstance(step, ExeStep | MsiStep) and step.observed:
            try:
                where = workspace.at(verb, at)
                exe.recording_of(step, where) if isinstance(step, ExeStep) else msi.recording_of(step, where)
            except YendoError as error:
                yield workspace.line(verb, at, "observed"), str(error), "try again, or take `observed` out of the step"


@rule("setup-returns-early", "error", "the next step, and detection, look at a machine on which the setup still works")
def setup_returns_early(workspace: Workspace) -> Report:
    trial = workspace.trial
    for verb, at, step in _setups(workspace):
        command = trial.get(verb) if trial else None
        for run in trial.get("runs", ()) if trial and step.observed and command else ():
            if run.get("command") == command and run.get("returned_early") and not step.wait_for:
                names = ", ".join(run.get("outlived", ())) or "its children"
                line = workspace.line(verb, at, "arguments")
                yield (
                    line,
                    f"it returns {run['returned_early']} s before {names} have ended",
                    f"wait_for = {list(run.get('outlived', ()))!r}".replace("'", '"'),
                )
