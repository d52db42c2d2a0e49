"""The rules on settings: what is secret must not get out, and what nobody uses need not be asked for."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from yendo.check.table import Report, rule
from yendo.check.workspace import Workspace
from yendo.errors import YendoError
from yendo.package import manifest as form
from yendo.plan import CopyStep, MsiStep
from yendo.steps import Action, At, Step, expanded, kind_of
from yendo.steps.msi import delivered, secret_properties
from yendo.terms.settings import names_in
from yendo.terms.when import resolve


def _secret(workspace: Workspace) -> set[str]:
    return {name for name, setting in workspace.plan.settings.items() if setting.secret}


def _actions(workspace: Workspace) -> Iterator[tuple[str, int, Step, At, Action]]:
    """Everything that the runner carries out for each step; one that cannot be resolved is another rule's."""
    kept = form.kept(workspace.plan)
    for verb, position, step in workspace.steps():
        first = workspace.at(verb, position)
        try:
            for number in range(len(expanded((step,), workspace.folder, kept))):
                at = msgspec.structs.replace(first, number=first.number + number)
                yield verb, position, step, at, kind_of(at.step).action(at)
        except YendoError:
            continue


@rule("secret-exposed", "error", "everybody on the machine sees the command lines of running programs")
def secret_exposed(workspace: Workspace) -> Report:
    secret = _secret(workspace)
    for verb, position, step, _, action in _actions(workspace) if secret else ():
        names = sorted(names_in([action.command, action.reverse, action.temporary_reverse]) & secret)
        if names:
            remedy = (
                "an msi step that installs media hands its properties over beside the command line: put it there"
                if isinstance(step, MsiStep)
                else "let the program read it from a file that a copy step with fill = true places, and delete that "
                "afterwards"
            )
            yield (
                workspace.line(verb, position),
                f"the secret {names[0]} stands on the command line of {verb} step {position + 1}",
                remedy,
            )


@rule(
    "secret-at-rest",
    "warning",
    "who can read that place can read the secret, and so may the record by which the change is taken back",
)
def secret_at_rest(workspace: Workspace) -> Report:
    secret = _secret(workspace)
    for verb, position, step, at, action in _actions(workspace) if secret else ():
        handed = (
            {
                name
                for known in secret_properties(step, at.settings)
                for name in names_in(delivered(step).properties[known])
            }
            if isinstance(step, MsiStep)
            else set()
        )
        for name in sorted((names_in(action.data) & secret) - handed):
            where = "in the file that it places" if isinstance(step, CopyStep) else "where it is written"
            yield (
                workspace.line(verb, position),
                f"the secret {name} stays on the machine, {where} ({verb} step {position + 1})",
                "tighten the rights of that place in a step of its own, or hand it to the installer only",
            )


@rule("secret-in-detection", "error", "secrets are kept nowhere, so detection can never know them")
def secret_in_detection(workspace: Workspace) -> Report:
    for position, entry in enumerate(workspace.plan.detect):
        for name in sorted(names_in(entry) & _secret(workspace)):
            yield (
                workspace.line("detect", position),
                f"detection asks for the secret {name}",
                "ask for something that does not depend on it",
            )


@rule("secret-once", "warning", "the installer then puts its own value back, and the program asks for the secret")
def secret_once(workspace: Workspace) -> Report:
    secret = _secret(workspace)
    for verb, position, step in workspace.steps() if secret else ():
        if not isinstance(step, MsiStep) or not (step.patch or verb == "repair"):
            continue
        given = [one for one in workspace.plan.install if isinstance(one, MsiStep) and one.media]
        for name in sorted({name for one in given for name in secret_properties(one, workspace.plan.settings)}):
            text = f"{verb} step {position + 1} installs again and cannot be told the secret property {name}"
            yield (
                workspace.line(verb, position),
                text,
                "see that the installer remembers it by itself, or leave the step out",
            )


@rule("unused-setting", "warning", "whoever delivers the package is asked for a value that changes nothing")
def unused_setting(workspace: Workspace) -> Report:
    plan = workspace.plan
    if not plan.settings:
        return
    used = names_in([resolve(plan.when), plan.need, plan.install, plan.uninstall, plan.repair, plan.detect])
    for _, _, _, _, action in _actions(workspace):
        used |= names_in(action)
    for name in sorted(set(plan.settings) - used):
        yield (
            workspace.line("settings", name),
            f"no step, condition or rule uses the setting {name}",
            f"use {{setting.{name}}}, or take it out",
        )


@rule("no-site", "warning", "a value without a default has to be given at every delivery, and a proof needs it too")
def no_site(workspace: Workspace) -> Report:
    plan = workspace.plan
    for name, setting in plan.settings.items():
        given = bool(plan.site) and all(name in values for values in plan.site.values())
        if setting.default is None and not setting.secret and not given:
            yield (
                workspace.line("settings", name),
                f"{name} has no default, and not every site gives it",
                f"give it a default, or a value in every [site.NAME]: {name} = ...",
            )
