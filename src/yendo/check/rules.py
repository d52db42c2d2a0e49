"""The rules on media, command lines and conditions."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator

import msgspec

from yendo.check.table import Report, rule
from yendo.check.workspace import Workspace
from yendo.effects.things import parent
from yendo.errors import Usage
from yendo.facts import secrets
from yendo.installers.msi import commandline
from yendo.package import manifest as form
from yendo.plan import CopyStep, MsiStep, Plan, Step, TakeBackStep
from yendo.platforms.windows import folders, paths
from yendo.platforms.windows.surroundings import expand, windows
from yendo.steps import kind_of
from yendo.steps.base import below, in_extras
from yendo.steps.copy import extras
from yendo.steps.msi import delivered
from yendo.terms.changes import PropertyChange
from yendo.terms.settings import names_in
from yendo.walk import files_below

# --- media and files --------------------------------------------------------------------------------


@rule("media-changed", "error", "what was read and proved is then not what is installed")
def media_changed(workspace: Workspace) -> Report:
    for at, medium in enumerate(workspace.plan.media):
        found = workspace.digest(medium.file)
        line = workspace.line("media", at, "sha256")
        if found is None:
            yield line, f"media/{medium.file} is not there", "put the vendor's file back below media/"
        elif found != medium.sha256:
            yield (
                line,
                f"media/{medium.file} has changed since it was hashed",
                "put the vendor's file back, or draft anew from the new one",
            )


@rule("unlisted-media", "warning", "what lies there and is not in the plan is neither hashed nor packed")
def unlisted_media(workspace: Workspace) -> Report:
    known = {medium.file.lower() for medium in workspace.plan.media}
    folder = workspace.folder / "media"
    for name, _ in files_below(folder):
        if name.lower() not in known:
            yield (
                workspace.line("media"),
                f"media/{name} is not in the plan",
                "add it as [[media]] with file and sha256, or take the file away",
            )


def _of_a_database(workspace: Workspace, verb: str, at: int, step: MsiStep) -> Report:
    """What a step names beside its database."""
    known = {medium.file for medium in workspace.plan.media}
    for key, name in (("media", step.media), ("patch", step.patch)):
        if name and name not in known:
            near = difflib.get_close_matches(name, known, 1)
            do = f"did you mean {near[0]}?" if near else "add it with its hash"
            yield workspace.line(verb, at, key), f"{name} is not one of the [[media]]", do
    for name in re.findall(r'\{package\}\\([^"|<>*?]+?\.(?:msi|msp|mst|cab|exe))', step.command or "", re.I):
        if not (workspace.folder / paths.portable(name)).is_file():
            said = f"the command names {name}, which is not there"
            yield workspace.line(verb, at, "command"), said, "check the spelling below media/ and extras/"
    for name in step.transforms:
        if not name.startswith(":"):
            try:
                below(workspace.folder, name, "extras", "media")
            except Usage as error:
                do = "put the transform below extras/, or correct the path"
                yield workspace.line(verb, at, "transforms"), str(error), do


def _of_copies(workspace: Workspace, verb: str, at: int, step: CopyStep) -> Report:
    line = workspace.line(verb, at, "from")
    try:
        if not extras(workspace.folder, step):
            yield line, f"{step.source} holds no files", "put the files there"
    except Usage as error:
        yield line, str(error), "put the file below extras/, or correct the path"


def _of_others(workspace: Workspace, verb: str, at: int, step: Step) -> Report:
    if list(kind_of(step).mistakes(step, workspace.at(verb, at))):
        return  # told by its own rule
    try:
        kind_of(step).sources(step, workspace.folder)
    except Usage as error:
        fields = {field.name: field.encode_name for field in msgspec.structs.fields(type(step))}
        written = next((fields[key] for key in fields if in_extras(str(getattr(step, key)))), "kind")
        yield workspace.line(verb, at, written), str(error), "put it below extras/, or correct the path"


@rule("missing-file", "error", "the step fails on every machine")
def missing_file(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if isinstance(step, MsiStep):
            yield from _of_a_database(workspace, verb, at, step)
        elif isinstance(step, CopyStep):
            yield from _of_copies(workspace, verb, at, step)
        else:
            yield from _of_others(workspace, verb, at, step)


@rule("open-conflict", "error", "the package is then neither what was decided nor what the vendor delivers now")
def open_conflict(workspace: Workspace) -> Report:
    for number, line in enumerate(workspace.text.splitlines(), 1):
        if match := re.search(r"#\s*CONFLICT:\s*(.+)", line):
            yield number, f"a renewal left it to decide: {match[1].rstrip(':')}", "decide, and take the mark out"


# --- command lines ------------------------------------------------------------------------------------


def _lines(workspace: Workspace) -> Iterator[tuple[str, int, MsiStep, str, int]]:
    """Every msi step with its whole command line and the line where a person would mend it."""
    for verb, at, step in workspace.steps():
        if isinstance(step, MsiStep):
            yield (
                verb,
                at,
                step,
                form.msi_command(workspace.plan, verb, at + 1),
                workspace.line(verb, at, "command" if step.command else "arguments"),
            )


@rule(
    "unquoted-space",
    "error",
    "the Windows Installer takes the rest for another option and ends with 1639, or installs elsewhere",
)
def unquoted_space(workspace: Workspace) -> Report:
    for _, _, _, command, line in _lines(workspace):
        try:
            stray = commandline.parse(command).stray
        except commandline.CommandError:
            continue
        for word in stray:
            if not word.startswith(("/", "-")):
                yield (
                    line,
                    f"“{word}” stands alone: a space before it is not inside quotes",
                    'put the whole value in double quotes: NAME="C:\\Program Files\\..."',
                )


@rule("bad-command", "error", "the Windows Installer refuses the command line with 1639")
def bad_command(workspace: Workspace) -> Report:
    for _, _, _, command, line in _lines(workspace):
        try:
            for word in commandline.parse(command).stray:
                if word.startswith(("/", "-")):
                    yield line, f"{word} is no option of the Windows Installer", "take it out, or correct it"
        except commandline.CommandError as error:
            yield line, f"{error}: {error.part!r}", "correct the command line"


@rule("not-silent", "error", "a window waits for a person who is not there")
def not_silent(workspace: Workspace) -> Report:
    for verb, at, step, command, _ in _lines(workspace):
        if step.command:
            try:
                if not commandline.parse(command).quiet:
                    yield workspace.line(verb, at, "command"), "the command shows windows", "add /qn"
            except commandline.CommandError:
                continue


@rule("restart-not-suppressed", "warning", "the machine may restart under the person's hands, and before the next step")
def restart_not_suppressed(workspace: Workspace) -> Report:
    for verb, at, step, command, _ in _lines(workspace):
        try:
            if not commandline.parse(command).restart_suppressed:
                key = "command" if step.command else "restart"
                yield (
                    workspace.line(verb, at, key),
                    f"{verb} step {at + 1} may restart the machine by itself",
                    ("add /norestart" if step.command else 'write restart = "suppress"; the runner reports 3010'),
                )
        except commandline.CommandError:
            continue


@rule("log-folder", "warning", "an installer that cannot write its log ends with 1622")
def log_folder(workspace: Workspace) -> Report:
    surroundings = windows("system")
    there = folders.SHARED | {path.lower() for path in (*surroundings.folders.values(), folders.TEMPORARY)}
    for verb, at, step, command, _ in _lines(workspace):
        try:
            log = commandline.parse(command).log
        except commandline.CommandError:
            continue
        if log and step.command and "{logs}" not in log:
            folder = parent(expand(log, surroundings.environment)).lower()
            if folder not in there and "{package}" not in folder:
                yield (
                    workspace.line(verb, at, "command"),
                    f"the log's folder {folder or 'of the moment'} may not exist",
                    r"log to {logs}\NAME.log, which the runner makes",
                )


# --- properties -----------------------------------------------------------------------------------------


def _changed_properties(workspace: Workspace) -> Iterator[tuple[int, MsiStep, PropertyChange, int]]:
    """Every property that a step's changes set, with its line."""
    for at, step in enumerate(workspace.plan.install):
        for number, change in enumerate(step.change if isinstance(step, MsiStep) else ()):
            if isinstance(change, PropertyChange) and isinstance(step, MsiStep):
                yield at, step, change, workspace.line("install", at, "change", number, "name")


def _properties(workspace: Workspace) -> Iterator[tuple[str, int, MsiStep, str, str]]:
    for verb, at, step in workspace.steps():
        if not isinstance(step, MsiStep):
            continue
        found = {name: str(value) for name, value in step.properties.items()}
        try:
            found |= commandline.parse(form.msi_command(workspace.plan, verb, at + 1)).properties
        except commandline.CommandError:
            pass
        changed = set(delivered(step).properties) - set(step.properties)
        for name, value in found.items():
            if name not in changed:  # what changes with settings give on the command line is looked at as changes
                yield verb, at, step, name, value


def _property_line(workspace: Workspace, verb: str, at: int, name: str) -> int:
    path = (verb, at, "properties", name)
    if workspace.has_line(*path):
        return workspace.line(*path)
    return workspace.line(verb, at, "arguments" if workspace.has_line(verb, at, "arguments") else "command")


_ALWAYS_KNOWN = frozenset(
    """
    ALLUSERS REBOOT REMOVE REINSTALL REINSTALLMODE ADDLOCAL ADDSOURCE ADDDEFAULT ADVERTISE INSTALLLEVEL
    MSIINSTALLPERUSER TRANSFORMS PATCH TARGETDIR ARPSYSTEMCOMPONENT ARPNOMODIFY ARPNOREPAIR ARPNOREMOVE
    ARPCOMMENTS ARPCONTACT ARPHELPLINK ARPHELPTELEPHONE ARPURLINFOABOUT ARPURLUPDATEINFO ARPINSTALLLOCATION
    ARPPRODUCTICON ARPSIZE ARPREADME ROOTDRIVE MSIRESTARTMANAGERCONTROL MSIFASTINSTALL MSIDISABLERMRESTART LIMITUI
    COMPANYNAME USERNAME PIDKEY DISABLEROLLBACK MSIENFORCEUPGRADECOMPONENTRULES
    """.split()
)


@rule("unknown-property", "warning", "the installer ignores it without a word")
def unknown_property(workspace: Workspace) -> Report:
    for verb, at, step, name, _ in _properties(workspace):
        account = workspace.account_of(step)
        if account is None or name in _ALWAYS_KNOWN or not commandline.PUBLIC_NAME.fullmatch(name):
            continue
        known = {entry.name for entry in account.properties}
        if name not in known:
            near = difflib.get_close_matches(name, known, 1, 0.5)
            yield (
                _property_line(workspace, verb, at, name),
                f"{step.media} knows no property {name}",
                f"did you mean {near[0]}?" if near else f"it knows: {', '.join(sorted(known)) or 'none of its own'}",
            )
    for _, step, change, line in _changed_properties(workspace):
        account = workspace.account_of(step)
        known = {entry.name for entry in account.properties} if account else set()
        if account and change.name not in known | _ALWAYS_KNOWN and commandline.PUBLIC_NAME.fullmatch(change.name):
            near = difflib.get_close_matches(change.name, known, 1, 0.5)
            if near:
                yield line, f"{step.media} knows no property {change.name}", f"did you mean {near[0]}?"


@rule("private-property", "error", "the installer takes only names in capitals from its command line")
def private_property(workspace: Workspace) -> Report:
    for verb, at, _, name, _ in _properties(workspace):
        if not commandline.PUBLIC_NAME.fullmatch(name):
            yield (
                _property_line(workspace, verb, at, name),
                f"property {name} is not public",
                f"if the installer has it, its public form is {name.upper()}",
            )


@rule("clear-secret", "error", "everyone who can read the package, the log or the list of processes can read it")
def clear_secret(workspace: Workspace) -> Report:
    withheld = {name for name, setting in workspace.plan.settings.items() if setting.secret}
    for verb, at, _, name, value in _properties(workspace):
        if value and secrets.is_secret(name) and not names_in(value) & withheld:
            yield (
                _property_line(workspace, verb, at, name),
                f"property {name} holds a secret in clear text ({secrets.MASK})",
                'make it a setting with secret = true: NAME = "{setting.key}"',
            )
    for _, _, change, line in _changed_properties(workspace):
        if change.value and secrets.is_secret(change.name) and not names_in(change.value) & withheld:
            yield (
                line,
                f"property {change.name} holds a secret in clear text ({secrets.MASK})",
                "leave it out of the transform: everyone can read it",
            )


@rule("per-user-msi", "error", "it installs for the account that runs it, which is the system account and nobody else")
def per_user_msi(workspace: Workspace) -> Report:
    if workspace.plan.package.scope != "machine":
        return
    for at, step in enumerate(workspace.plan.install):
        account = workspace.account_of(step)
        if isinstance(step, MsiStep) and account and account.identity.scope == "user":
            given = {name: value for _, number, _, name, value in _properties(workspace) if number == at}
            given |= {
                change.name: str(change.value)
                for number, _, change, _ in _changed_properties(workspace)
                if number == at
            }
            if str(given.get("ALLUSERS", "")) not in ("1", "2"):
                yield (
                    workspace.line("install", at, "media"),
                    f"{step.media} installs for one user",
                    'add ALLUSERS = "1" to the properties, or make the package one for users',
                )


# --- uninstall, timeouts, conditions --------------------------------------------------------------------


@rule("no-uninstall", "error", "what cannot be removed cannot be upgraded or taken back")
def no_uninstall(workspace: Workspace) -> Report:
    if not form.steps_of(workspace.folder, workspace.plan, "uninstall") and not workspace.plan.package.permanent:
        yield (
            workspace.line("install"),
            "there is no [[uninstall]], and none follows from the steps",
            "say how it is removed: a product code, take-back for placed files; or why not: permanent under [package]",
        )


def _removes(plan: Plan, at: int) -> bool | None:
    """Whether an msi step of the uninstall removes its product; None where its command line is refused."""
    try:
        command = commandline.parse(form.msi_command(plan, "uninstall", at + 1))
    except commandline.CommandError:
        return None
    return command.action == "uninstall" or command.properties.get("REMOVE", "").upper() == "ALL"


@rule("uninstall-does-nothing", "error", "the uninstall ends well and the software stays")
def uninstall_does_nothing(workspace: Workspace) -> Report:
    plan = workspace.plan
    if not plan.uninstall:
        return
    codes = {account.identity.product_code for account in workspace.accounts.values() if account.identity.product_code}
    removes_msi = False
    for at, step in enumerate(plan.uninstall):
        if isinstance(step, CopyStep):
            yield workspace.line("uninstall", at, "kind"), "an uninstall step places files", 'use kind = "take-back"'
        if not isinstance(step, MsiStep) or (removes := _removes(plan, at)) is None:
            continue
        if not removes:
            yield (
                workspace.line("uninstall", at, "command"),
                "the uninstall installs: the command has no /x and no REMOVE=ALL",
                "write msiexec /x PRODUCT-CODE /qn",
            )
            continue
        removes_msi = True
        if step.product and codes and step.product.upper() not in codes:
            yield (
                workspace.line("uninstall", at, "product"),
                f"{step.product} is not a product that this package installs",
                f"it installs {', '.join(sorted(code for code in codes if code))}",
            )
    if any(isinstance(step, MsiStep) for step in plan.install) and not removes_msi:
        yield (
            workspace.line("uninstall"),
            "nothing removes the product that the msi step installs",
            "add an msi step with the product code",
        )
    if workspace.copies and not any(isinstance(step, TakeBackStep) for step in plan.uninstall):
        yield (
            workspace.line("uninstall"),
            "nothing takes back the files that the copy steps place",
            'add a step of kind = "take-back"',
        )


@rule("no-timeout", "warning", "a step that waits for a person holds the machine for ever")
def no_timeout(workspace: Workspace) -> Report:
    for verb, at, step in workspace.steps():
        if not step.timeout and kind_of(step).name in ("msi", "exe", "script", "include", "copy", "take-back"):
            yield workspace.line(verb, at, "kind"), f"{verb} step {at + 1} has no timeout", 'add timeout = "30 min"'


@rule(
    "architecture-missing", "warning", "on a 32-bit machine the run fails instead of saying that it is not applicable"
)
def architecture_missing(workspace: Workspace) -> Report:
    wide = sorted({"x64", "arm64"} & {str(account.identity.architecture) for account in workspace.accounts.values()})
    if wide and not workspace.plan.when.architecture:
        yield (
            workspace.line("when"),
            f"the installer is for {wide[0]}, and no condition says so",
            f'add architecture = ["{wide[0]}"] to [when]',
        )


# --- detection --------------------------------------------------------------------------------------------


@rule("undecided", "note", "a derived value may be right and still not be what you want")
def undecided(workspace: Workspace) -> Report:
    for number, line in enumerate(workspace.text.splitlines(), 1):
        before, mark, after = line.partition("# DECIDE")
        if mark:
            name, text = before.partition("=")[0].strip(), after.strip(": ") or "a decision is open"
            yield number, f"{name}: {text}" if name else text, "set the value and take the mark away"
