"""The rules on transforms, changes and patches."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from yendo.check.table import Report, rule
from yendo.check.workspace import Workspace
from yendo.errors import Unreadable, Usage, YendoError
from yendo.formats.msi import Database, transform
from yendo.formats.msi.transform import Transform
from yendo.installers.msi import changes, fitting, intent, layers, validate
from yendo.plan import MsiStep
from yendo.steps import transforms
from yendo.steps.base import below
from yendo.steps.msi import said_twice


def _given(workspace: Workspace) -> Iterator[tuple[int, str, MsiStep, Database, Transform | Unreadable]]:
    """``(line, name, step, installer, transform or why it cannot be read)`` for every transform that a step names.

    Other rules say where a file is not there.
    """
    for verb, at, step in workspace.steps():
        if not isinstance(step, MsiStep):
            continue
        for name in step.transforms:
            with contextlib.suppress(Usage), Database(below(workspace.folder, f"media/{step.media}", "media")) as base:
                found: Transform | Unreadable
                try:
                    path = below(workspace.folder, name, "extras", "media") if not name.startswith(":") else None
                    found = transform.read(path, base) if path else layers.embedded(base, name[1:])
                except Unreadable as error:
                    found = error
                yield workspace.line(verb, at, "transforms"), name, step, base, found


@rule("transform-misfit", "error", "the Windows Installer ends with 1624, or passes over what has no target")
def transform_misfit(workspace: Workspace) -> Report:
    for line, name, step, base, found in _given(workspace):
        if isinstance(found, Unreadable):
            yield line, f"{name}: {found}", "get the transform again, or take it out"
            continue
        fit = fitting.fit(base, found)
        if not fit.fits:
            lost = "; ".join(str(problem) for problem in fit.problems[:3])
            remedy = f"yendo transform move {name} OLD.msi media/{step.media} -o {name}"
            yield line, f"{name} {fit.in_words}" + (f" ({lost})" if lost else ""), remedy


@rule("transform-risk", "warning", "it was decided by somebody else, for reasons that are not in the plan")
def transform_risk(workspace: Workspace) -> Report:
    for line, name, _, base, found in _given(workspace):
        risky = (
            [] if isinstance(found, Unreadable) else [change for change in changes.in_words(base, found) if change.risk]
        )
        for change in risky[:8]:
            yield line, f"{name} {change.kind} {change.text}: {change.risk}", "ask whoever made it, and note the answer"


@rule("change-misfit", "error", "the build stops here: nothing is written while a change has no target")
def change_misfit(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if not (isinstance(step, MsiStep) and step.change):
            continue
        try:
            with transforms.base_of(workspace.folder, step) as base:
                intent.transform_for(base, step.change, lambda name: below(workspace.folder, name, "extras"))
        except intent.IntentError as error:
            for misfit in error.misfits:
                yield workspace.line(verb, at, "change", misfit.position), misfit.message, misfit.remedy
        except Usage as error:
            yield workspace.line(verb, at, "change"), str(error), "put the file below extras/, or correct the path"
        except (Unreadable, layers.Refused):
            continue  # other rules say so


@rule("property-twice", "error", "the command line wins over a transform, so one of the two decisions is silently lost")
def property_twice(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if not isinstance(step, MsiStep):
            continue
        try:
            found = said_twice(step, workspace.folder)
        except (YendoError, layers.Refused):
            continue  # other rules say so
        for one in found:
            line = workspace.line(verb, at, "properties", one.name)
            if one.by == "change":
                place = f"the change in line {workspace.line(verb, at, 'change', one.position)}"
            else:
                place = f"{one.by}, named in line {workspace.line(verb, at, 'transforms')},"
            yield (
                line,
                f"{one.name} is {one.given!r} here, and {place} sets it to {one.value!r}",
                "take one of the two out",
            )


@rule(
    "component-rule",
    "error",
    "repair, patches and upgrades count by components, and take away or leave behind the wrong things",
)
def component_rule(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if not (isinstance(step, MsiStep) and (step.change or step.transforms)):
            continue
        try:
            media = below(workspace.folder, f"media/{step.media}", "media")
            with Database(media) as base, transforms.changed(workspace.folder, step) as after:
                broken = validate.broken_by(base, after)
        except (YendoError, layers.Refused):
            continue  # other rules say so
        for finding in [finding for finding in broken if finding.severity == "error"][:20]:
            line = workspace.line(verb, at, "transforms" if step.transforms else "change")
            yield (
                line,
                f"{finding.evidence.where}: {finding.message}",
                "make the change in another way, or leave it out",
            )


@rule("patch-misfit", "error", "the Windows Installer ends with 1642, and the machine stays as it was")
def patch_misfit(workspace: Workspace) -> Report:
    for at, step in enumerate(workspace.plan.install):
        if not (isinstance(step, MsiStep) and step.patch and (workspace.folder / "media" / step.patch).is_file()):
            continue
        line = workspace.line("install", at, "patch")
        if workspace.base_of(step) is None:
            if not step.unless:
                yield (
                    line,
                    f"nothing before it installs what {step.patch} is for",
                    "install the base in a step before, or say in unless where it is not needed",
                )
            continue
        try:
            with workspace.opened(step):
                pass
        except layers.Refused as refused:
            yield line, refused.message, "get the patch for this version, or the version for this patch"
        except Unreadable as error:
            yield line, f"{step.patch}: {error}", "get the patch again"
        except YendoError:
            continue
