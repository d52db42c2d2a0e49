"""The rules on sequences: conditions, restarts, people at the machine, prerequisites, what cannot be taken back."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from yendo.check.table import Report, rule
from yendo.check.workspace import Workspace
from yendo.errors import YendoError
from yendo.facts.versions import VersionRange
from yendo.package import manifest as form
from yendo.package import scripts
from yendo.plan import MsiStep, Step
from yendo.platforms.windows import paths
from yendo.steps import kind_of
from yendo.steps.action import MsiData
from yendo.steps.base import below
from yendo.steps.environment import EnvironmentStep
from yendo.steps.include import IncludeStep
from yendo.steps.registry import RegistryStep
from yendo.steps.restart import RestartStep
from yendo.steps.script import ScriptStep
from yendo.steps.sign_out import SignOutStep
from yendo.steps.tell import TellStep
from yendo.terms.when import Condition


@rule(
    "unsigned-script",
    "error",
    "where only signed scripts run, the system refuses it, and the step fails on every machine",
)
def unsigned_script(workspace: Workspace) -> Report:
    if not workspace.plan.only_signed:
        return
    named = [
        (workspace.line(verb, at, "run"), step.source)
        for verb, at, step in workspace.steps()
        if isinstance(step, ScriptStep)
    ]
    named += [(workspace.line("when"), name) for name in workspace.plan.when.scripts()]
    for line, name in named:
        path = workspace.folder / paths.portable(name)
        if name.lower().endswith(".ps1") and path.is_file() and scripts.SIGNED.encode() not in path.read_bytes():
            yield (
                line,
                f"{name} has no signature, and the plan says only_signed",
                "sign it with the office's certificate, or take only_signed out",
            )


@rule("step-mistake", "error", "the step fails, or does something else than is meant")
def step_mistake(workspace: Workspace) -> Report:
    """What each kind of step has to say about its own."""
    for verb, at, step in workspace.steps():
        if kind_of(step).name == "feature" or (kind_of(step).name == "script" and not step.probe):
            continue  # other rules say so
        where = workspace.at(verb, at)
        for key, message, remedy in kind_of(step).mistakes(step, where):
            yield workspace.line(verb, at, key), f"{verb} step {at + 1}: {message}", remedy


@rule("script-unproved", "warning", "a script that ends with 0 and has done nothing counts as done")
def script_unproved(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if kind_of(step).name == "script" and not step.probe:
            yield (
                workspace.line(verb, at, "run"),
                "nobody can tell whether the script has done its work",
                "say with probe what it achieves",
            )


def _conditions(workspace: Workspace) -> Iterator[tuple[int, str, Condition]]:
    yield workspace.line("when"), "the package", workspace.plan.when
    for verb, at, step in workspace.steps():
        if step.when:
            yield workspace.line(verb, at, "when"), f"{verb} step {at + 1}", step.when


def _no_version(conditions: Iterable[Condition | None]) -> str:
    """Why no version can be in the ranges of all these conditions; nothing where one can."""
    for key in ("os", "shell", "dotnet"):
        ranges = [text for each in conditions if each and (text := getattr(each, key))]
        if ranges and not VersionRange.parse(",".join(ranges)).possible:
            return f"no version is {' and '.join(ranges)}"
    return ""


def impossible(condition: Condition, outer: Condition | None = None) -> str:
    """Why a condition can never hold, together with an outer one; nothing where it can."""
    if reason := _no_version([outer, condition]):
        return reason
    if condition.after and condition.before and condition.after >= condition.before:
        return f"no day is from {condition.after} on and before {condition.before}"
    for_all = outer.architecture if outer else ()
    if for_all and condition.architecture and set(for_all).isdisjoint(condition.architecture):
        return f"the package is for {', '.join(for_all)} only"
    if condition.not_ and condition.not_ == msgspec.structs.replace(condition, not_=None):
        return "it wants something and its opposite"
    for inner in condition.all:
        if reason := impossible(inner, outer):
            return reason
    reasons = [impossible(inner, outer) for inner in condition.any]
    return reasons[0] if reasons and all(reasons) else ""


@rule("never-holds", "error", "what hangs on it is never done, on any machine")
def never_holds(workspace: Workspace) -> Report:
    whole = workspace.plan.when
    hopeless = bool(impossible(whole))
    for line, what, condition in _conditions(workspace):
        outer = None if condition is whole or hopeless else whole
        if reason := impossible(condition, outer):
            yield (
                line,
                f"the condition of {what} can never hold: {reason}",
                "correct the condition, or take the step out",
            )


@rule("unreachable-step", "warning", "it stands in the plan and is never carried out")
def unreachable_step(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        wanted = tuple(step.when.holds) if step.when else ()
        both = [one for one in step.unless if one in wanted]
        if both:
            yield (
                workspace.line(verb, at, "unless"),
                f"{verb} step {at + 1} wants a rule to hold and not to hold",
                "take one of them out",
            )


@rule("restart-without-resume", "error", "the machine starts anew and the steps behind it are never done")
def restart_without_resume(workspace: Workspace) -> Report:
    plan = workspace.plan
    for verb, at, step in workspace.steps():
        last = at == len(plan.steps(verb)) - 1
        if isinstance(step, RestartStep) and not last and form.keeps(plan) != "all":
            yield (
                workspace.line("keep"),
                f"{verb} goes on after a restart, and the package may be gone by then",
                'write keep = "all"',
            )
        if isinstance(step, MsiStep) and step.restart == "allow" and not last:
            yield (
                workspace.line(verb, at, "restart"),
                f"{verb} step {at + 1} may restart the machine by itself, with steps behind it",
                'write restart = "suppress", and a restart step behind it',
            )


def _nobody(condition: Condition | None) -> bool:
    return condition is not None and condition.people == "none"


@rule("nobody-to-read", "warning", "the message is shown to nobody")
def nobody_to_read(workspace: Workspace) -> Report:
    signed_out: dict[str, bool] = {}
    for verb, at, step in workspace.steps():
        if isinstance(step, TellStep) and (_nobody(step.when) or _nobody(workspace.plan.when) or signed_out.get(verb)):
            why = (
                "everybody was signed out before"
                if signed_out.get(verb)
                else "the condition wants nobody to be logged on"
            )
            yield (
                workspace.line(verb, at, "text"),
                f"{verb} step {at + 1} tells a person, and {why}",
                "tell earlier, or take the condition out",
            )
        if isinstance(step, SignOutStep | RestartStep):
            signed_out[verb] = True
    if workspace.plan.in_the_way.ask and not workspace.plan.in_the_way.text:
        yield (
            workspace.line("in_the_way", "ask"),
            "the person is asked without a word of explanation",
            'write text = { en = "..." }',
        )


_NETWORK = re.compile(r"\\\\[A-Za-z0-9][\w.-]*\\|\b(?:https?|ftp)://", re.I)


@rule("needs-network", "warning", "it fails on every machine that is offline, or has a metered connection")
def needs_network(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if (step.when and step.when.network) or workspace.plan.when.network:
            continue
        for key, text in _texts(step):
            if _NETWORK.search(text):
                yield (
                    workspace.line(verb, at, key),
                    f"{verb} step {at + 1} reaches over the network: {text[:60]}",
                    'bring the file along, or write when = { network = "any" }',
                )
                break
        else:
            if kind_of(step).name == "feature":
                where = workspace.at(verb, at)
                for key, message, remedy in kind_of(step).mistakes(step, where):
                    yield workspace.line(verb, at, key), f"{verb} step {at + 1}: {message}", remedy


def _texts(step: Step) -> Iterator[tuple[str, str]]:
    for field in msgspec.structs.fields(step):
        value = getattr(step, field.name)
        if isinstance(value, str) and field.name not in ("note",):
            yield field.encode_name, value


@rule("users-own", "error", "the system account has a profile, hive and screen of its own, which nobody ever sees")
def users_own(workspace: Workspace) -> Report:
    """Steps that touch a person's own things in a package for the machine."""
    if workspace.plan.package.scope != "machine":
        return
    for verb, at, step in workspace.steps():
        there = step.when is not None and step.when.people == "some"
        if step.run_as == "person" and not there:
            yield (
                workspace.line(verb, at, "run_as"),
                f"{verb} step {at + 1} needs somebody who is logged on",
                'write when = { people = "some" }',
            )
        elif isinstance(step, EnvironmentStep) and step.scope == "user" and step.run_as != "person":
            yield (
                workspace.line(verb, at, "scope"),
                f"{verb} step {at + 1} sets a variable of the system account",
                'write scope = "machine"',
            )
        elif (
            isinstance(step, RegistryStep)
            and re.match(r"(?i)HK(CU|EY_CURRENT_USER)\\", step.key or "")
            and not step.each_user
            and (step.values or verb != "uninstall")  # what the account has written itself, it takes away itself
        ):
            yield (
                workspace.line(verb, at, "key"),
                f"{verb} step {at + 1} sets a value of the system account",
                "write each_user = true",
            )
        if step.window:
            yield (
                workspace.line(verb, at, "window"),
                f"{verb} step {at + 1} shows a window on a screen that nobody sees",
                "make it silent, or the package one for users",
            )


@rule("once-without-probe", "error", "after a power cut nobody knows whether it was done")
def once_without_probe(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if step.once and not step.probe:
            yield (
                workspace.line(verb, at, "once"),
                f"{verb} step {at + 1} may be done only once, and nothing tells whether it is",
                "say with probe what is so when it is done",
            )


@rule("cannot-undo", "warning", "what it did stays on the machine after the uninstall")
def cannot_undo(workspace: Workspace) -> Report:
    plan = workspace.plan
    if plan.uninstall:
        records = [
            at
            for at, step in enumerate(plan.install)
            if kind_of(step).reversal_of(step) == "by record" and kind_of(step).name != "copy"
        ]
        if records and not any(kind_of(step).name == "take-back" for step in plan.uninstall):
            names = ", ".join(f"{at + 1} ({kind_of(plan.install[at]).name})" for at in records)
            yield (
                workspace.line("uninstall"),
                f"nothing takes back what install steps {names} do",
                'add [[uninstall]] kind = "take-back"',
            )
        return
    for at, step in enumerate(plan.install):
        if kind_of(step).reversal_of(step) == "cannot" and not plan.package.permanent:
            yield (
                workspace.line("install", at, "kind"),
                f"install step {at + 1} ({kind_of(step).name}) is not taken back by itself",
                "give it a reverse, or write [[uninstall]]",
            )


def _inner(workspace: Workspace, name: str) -> form.Manifest | None:
    try:
        return form.read(below(workspace.folder, name, "extras"))
    except YendoError:
        return None


@rule("need-conflict", "error", "the prerequisites can never all be met, and the install ends before its first step")
def need_conflict(workspace: Workspace) -> Report:
    plan = workspace.plan
    ranges: dict[str, list[str]] = {}
    for at, need in enumerate(plan.need):
        line = workspace.line("need", at, "package")
        if need.package:
            ranges.setdefault(need.package, []).append(need.version or "")
        if need.package == plan.package.id:
            yield line, "the package needs itself", "take the need out"
        if not need.source:
            continue
        inner = _inner(workspace, need.source)
        if inner is None or inner.id != need.package:
            found = "no built package" if inner is None else f"the package {inner.id}"
            yield (
                workspace.line("need", at, "from"),
                f"{need.source} is {found}, wanted is {need.package}",
                "put the built package's folder there",
            )
            continue
        if need.version and not VersionRange.parse(need.version).fits(inner.version):
            yield (
                workspace.line("need", at, "version"),
                f"the package that is brought is {inner.version}, wanted is {need.version}",
                "bring another one, or correct the range",
            )
        chain = _circle(plan.package.id, inner, workspace, need.source)
        if chain:
            yield line, f"the prerequisites go round in a circle: {' needs '.join(chain)}", "take one of them out"
    for name, wanted in ranges.items():
        text = ",".join(part for part in wanted if part)
        if text and not VersionRange.parse(text).possible:
            yield (
                workspace.line("need"),
                f"no version of {name} is {' and '.join(part for part in wanted if part)}",
                "correct the ranges",
            )


def _circle(own: str, inner: form.Manifest, workspace: Workspace, folder: str, seen: tuple[str, ...] = ()) -> list[str]:
    """The ids along a way back to the package itself, or to one that was passed already."""
    if len(seen) > 20:
        return [own, *seen]
    for need in inner.needs:
        if need.package in (own, inner.id, *seen):
            return [own, *seen, inner.id, need.package]
        deeper: Any = _inner(workspace, f"{folder}/{need.folder}") if need.folder else None
        if deeper is not None:
            found = _circle(own, deeper, workspace, f"{folder}/{need.folder}", (*seen, inner.id))
            if found:
                return found
    return []


@rule("removes-shared", "error", "other packages that need it stop working")
def removes_shared(workspace: Workspace) -> Report:
    plan = workspace.plan
    codes: dict[str, str] = {}
    for need in plan.need:
        inner = _inner(workspace, need.source) if need.source else None
        for action in inner.install if inner else ():
            if action.kind == "msi" and (product := MsiData.of(action).product):
                codes[product] = need.package or ""
    for at, step in enumerate(plan.uninstall):
        if isinstance(step, MsiStep) and (step.product or "").upper() in codes:
            yield (
                workspace.line("uninstall", at, "product"),
                f"it removes the prerequisite {codes[(step.product or '').upper()]}",
                "write remove = true in the need: it goes with the last that needs it",
            )
        if isinstance(step, IncludeStep):
            inner = _inner(workspace, step.source)
            if inner and inner.id in [need.package for need in plan.need]:
                yield (
                    workspace.line("uninstall", at, "package"),
                    f"it removes the prerequisite {inner.id}",
                    "write remove = true in the need: it goes with the last that needs it",
                )
