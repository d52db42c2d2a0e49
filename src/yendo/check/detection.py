"""The rules on detection."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from pathlib import Path

import msgspec

from yendo import digest
from yendo.check.table import Report, rule
from yendo.check.workspace import Workspace
from yendo.effects import File, RegistryValue
from yendo.errors import NotCovered, Usage, YendoError
from yendo.facts.versions import VersionRange
from yendo.machines.simulated.machine import fresh_state
from yendo.package import build
from yendo.package import manifest as form
from yendo.plan import FileRule, MsiProductRule, RegistryRule
from yendo.platforms.windows.registry_keys import PERSON
from yendo.platforms.windows.surroundings import expand, windows
from yendo.steps.copy import extras
from yendo.steps.msi import MsiStep
from yendo.terms.rules import (
    BaseRule,
    FileListRule,
    FolderRule,
    NoneRule,
    RegistryKeyRule,
    RegistryListRule,
    Rule,
    ShortcutRule,
    Sight,
    TagRule,
)
from yendo.terms.rules.registry import parts_of


@rule("no-detection", "error", "nobody can tell whether it is installed")
def no_detection(workspace: Workspace) -> Report:
    if not workspace.plan.detect:
        yield (
            workspace.line("install"),
            "there is no [[detect]]",
            "say with [[need]] and [proof] what the installer waits for; see refused-everywhere"
            if any(account.refused for account in workspace.accounts.values())
            else "yendo detect derive --write derives it, or draft again into another folder to see the drafted rules",
        )


def _flat(workspace: Workspace) -> Iterator[tuple[int, BaseRule]]:
    """Every rule of detection, those in groups and lists too, with the place of what it stands in."""
    for at, entry in enumerate(workspace.plan.detect):
        for inner in entry.flat():
            yield at, inner
            yield from ((at, one) for one in _listed(inner))


def _listed(entry: BaseRule) -> tuple[FileRule, ...] | tuple[RegistryRule, ...]:
    return entry.rules if isinstance(entry, FileListRule | RegistryListRule) else ()


@rule("refused-everywhere", "error", "the installer stops on every machine, and nothing of it is installed")
def refused_everywhere(workspace: Workspace) -> Report:
    """A database that goes on with no Windows that is known here, and waits for nothing that could be brought."""
    for at, medium in enumerate(workspace.plan.media):
        account = workspace.accounts.get(medium.file)
        if account and account.refused and not account.takes and not account.wanting:
            steps = [step for step in workspace.plan.install if isinstance(step, MsiStep) and step.media == medium.file]
            if any(step.properties and workspace.goes_on(step) for step in steps):
                continue  # it asked for a value, and gets one
            yield (
                workspace.line("media", at, "file"),
                f"{medium.file} refuses every Windows that is known here: {account.refused}",
                "is it the right file? yendo msi sequence shows the condition that stops it",
            )


@rule("existence-only", "warning", "an old or broken copy counts as success")
def existence_only(workspace: Workspace) -> Report:
    versions = {
        effect.thing.identity: effect.thing.version
        for effect in workspace.effects
        if isinstance(effect.thing, File) and effect.thing.version
    }
    environment = windows("system").environment
    for at, entry in enumerate(workspace.plan.detect):
        bare_file = isinstance(entry, FileRule) and not entry.version and not entry.sha256 and entry.size is None
        if (
            isinstance(entry, FileRule)
            and bare_file
            and (known := versions.get(expand(entry.path, environment).lower()))
        ):
            yield (
                workspace.line("detect", at, "path"),
                f"only the existence of {entry.path} is asked for",
                f'add version = ">={known}"',
            )
        if isinstance(entry, MsiProductRule) and entry.code and not entry.version:
            version = next(
                (
                    account.identity.version
                    for account in workspace.accounts.values()
                    if account.identity.product_code == entry.code.upper()
                ),
                None,
            )
            if version:
                yield (
                    workspace.line("detect", at, "code"),
                    "any version with this product code counts",
                    f'add version = "=={version}"',
                )


_PER_USER = re.compile(r"(?i)^(%(appdata|localappdata|userprofile|homepath|temp|tmp)%|[a-z]:\\users\\(?!public(\\|$)))")


@rule("per-user-detection", "error", "the system account has another profile, so the rule never holds there")
def per_user_detection(workspace: Workspace) -> Report:
    if workspace.plan.package.scope != "machine":
        return
    for at, entry in _flat(workspace):
        if isinstance(entry, FileRule | FolderRule | ShortcutRule | TagRule) and _PER_USER.match(entry.path):
            yield (
                workspace.line("detect", at, "path"),
                f"{entry.path} lies in a user's own folder",
                "ask for a file below %ProgramFiles% or %ProgramData%",
            )
        if isinstance(entry, RegistryRule | RegistryKeyRule) and parts_of(entry.key)[0] == PERSON:
            yield (
                workspace.line("detect", at, "key"),
                f"{entry.key} lies in a user's own part of the registry",
                "ask for a value below HKLM",
            )


def _anywhere(*parts: str) -> tuple[str, ...]:
    """What identifies a registry value in either view."""
    return tuple(part.lower() for part in parts)


@rule(
    "registry-view", "error", "64-bit and 32-bit programs see different halves of the registry, so the rule never holds"
)
def registry_view(workspace: Workspace) -> Report:
    written: dict[tuple[str, ...], set[str]] = {}
    for effect in workspace.effects:
        if isinstance(effect.thing, RegistryValue):
            value = effect.thing
            written.setdefault(_anywhere(value.hive, value.key, value.name), set()).add(value.view)
    told: set[int] = set()
    for at, entry in _flat(workspace):
        if not isinstance(entry, RegistryRule) or at in told:
            continue
        line = workspace.line("detect", at, "view" if workspace.has_line("detect", at, "view") else "key")
        if "wow6432node" in entry.key.lower():
            plain = re.sub(r"(?i)\\wow6432node", "", entry.key)
            told.add(at)
            yield line, "Wow6432Node is spelt out", f"write key = '{plain}' and view = \"32\""
            continue
        hive, key = entry.parts
        views = written.get(_anywhere(hive, key, entry.name), set())
        if views and entry.view not in views:
            told.add(at)
            yield (
                line,
                f"the installer writes this value in the {min(views)}-bit view, the rule looks in the "
                f"{entry.view}-bit one",
                f'write view = "{min(views)}"',
            )


@rule("extra-not-detected", "warning", "the package counts as installed while its extra file is missing or old")
def extra_not_detected(workspace: Workspace) -> Report:
    environment = windows("system").environment
    asked = {expand(entry.path, environment).lower() for _, entry in _flat(workspace) if isinstance(entry, FileRule)}
    for at, step in workspace.copies:
        try:
            targets = extras(workspace.folder, step)
        except Usage:
            continue
        missing = [(path, target) for path, target in targets if expand(target, environment).lower() not in asked]
        if missing:
            path, target = missing[0]
            more = f" (and {len(missing) - 1} more)" if len(missing) > 1 else ""
            yield (
                workspace.line("install", at, "to"),
                f"nothing detects {target}{more}",
                f'add a file rule with sha256 = "{digest.of_file(path)}"',
            )


@rule(
    "wrong-content",
    "error",
    "detection asks for another content than the package places, so it is installed again and again",
)
def wrong_content(workspace: Workspace) -> Report:
    environment = windows("system").environment
    placed: dict[str, Path] = {}
    for _, step in workspace.copies:
        try:
            placed |= {expand(target, environment).lower(): path for path, target in extras(workspace.folder, step)}
        except Usage:
            continue
    for at, entry in _flat(workspace):
        if (
            isinstance(entry, FileRule)
            and entry.sha256
            and (path := placed.get(expand(entry.path, environment).lower()))
        ):
            placed_digest = digest.of_file(path)
            if placed_digest != entry.sha256:
                outer = workspace.plan.detect[at]
                alone = isinstance(outer, FileRule)
                name = entry.path[len(outer.folder) + 1 :] if isinstance(outer, FileListRule) else ""
                yield (
                    workspace.line("detect", at, *(["sha256"] if alone else ["files", name])),
                    f"{entry.path} is detected by another hash than that of the file placed",
                    f'write {"sha256 = " if alone else ""}"{placed_digest}"',
                )


@rule(
    "stale-detection", "error", "machines that have what was handed over report the new one as there, and never get it"
)
def stale_detection(workspace: Workspace) -> Report:
    old, plan = workspace.delivered, workspace.plan
    if old is None or list(msgspec.to_builtins(plan.detect)) != list(old.detect):
        return
    if plan.package.revision > old.revision and plan.package.version == old.version:
        return  # whoever distributes it sees another revision, and installs it once more where it was assigned
    base = workspace.folder
    try:
        sources, made = build.own_files(base, plan)
        digest_of = {path: digest.of_file(path) for path in sources}
        files = [
            form.PackedFile(
                f"media/{medium.file}",
                (base / "media" / medium.file).stat().st_size,
                workspace.digest(medium.file) or "",
            )
            for medium in plan.media
        ]
        files += [
            form.PackedFile(path.relative_to(base).as_posix(), path.stat().st_size, sha256)
            for path, sha256 in digest_of.items()
        ]
        files += [form.PackedFile(name, len(data), hashlib.sha256(data).hexdigest()) for name, data in made.items()]
        now = form.resolve(base, plan, tuple(sorted(files, key=lambda file: file.path)), digest_of, "")
    except (OSError, YendoError):
        return
    if build.content_digest(now) != old.content:
        yield (
            workspace.line("detect"),
            f"the content has changed since revision {old.revision} was handed over on {old.at[:10]}, and the "
            "detection is still true for that one",
            "raise the revision, and detect something that changed (a file's hash, a version)",
        )


@rule("contradiction", "error", "the rules can never all hold, so the package is installed again and again")
def contradiction(workspace: Workspace) -> Report:
    environment = windows("system").environment
    known: dict[tuple[str, str], tuple[int, object]] = {}
    demands = [
        (at, entry, demand)
        for at, entry in enumerate(workspace.plan.detect)
        for one in (entry, *_listed(entry))
        for demand in _demands(one, environment)
    ]
    for at, entry, (what, value) in demands:
        before = known.setdefault(what, (at, value))
        if isinstance(value, VersionRange) and isinstance(before[1], VersionRange):
            clash = not value.meets(before[1])
        else:
            clash = before[1] != value
        if clash:
            yield (
                workspace.line("detect", at, "kind"),
                f"rule {at + 1} ({entry.title}) and rule {before[0] + 1} never hold together",
                "take one of them out, or put them into a group of kind any",
            )
    for at, entry in enumerate(workspace.plan.detect):
        for group in entry.flat():
            if isinstance(group, NoneRule) and any(
                other == inner for inner in group.of for other in workspace.plan.detect
            ):
                yield (
                    workspace.line("detect", at, "kind"),
                    f"“{group.title}” forbids what another rule asks for",
                    "take one of them out",
                )


def _demands(entry: Rule, environment: dict[str, str]) -> Iterator[tuple[tuple[str, str], object]]:
    """What a rule asks of one thing: what is asked for, and the range or value that it wants."""
    things = {"path": expand(getattr(entry, "path", ""), environment).lower()} if hasattr(entry, "path") else {}
    name = things.get("path") or "|".join(
        str(getattr(entry, key, "")).lower() for key in ("code", "upgrade_code", "key", "name", "pattern", "view")
    )
    for key in ("version", "size", "sha256", "equals", "start", "running", "target", "architecture"):
        value = getattr(entry, key, None)
        if value is not None:
            yield (f"{entry.kind}|{name}", key), VersionRange.parse(value) if key == "version" else value


@rule("true-on-fresh", "error", "a machine that never saw the package counts as done")
def true_on_fresh(workspace: Workspace) -> Report:
    if not workspace.plan.detect:
        return
    surroundings = windows("system")
    sight = Sight(fresh_state(surroundings), surroundings.environment, lambda name: False)
    verdicts = []
    for entry in workspace.plan.detect:
        try:
            verdicts.append(entry.judge(sight))
        except NotCovered:
            return  # only a real machine can tell
    if all(holds for holds, _ in verdicts):
        fact = "; ".join(fact for _, fact in verdicts)
        yield (
            workspace.line("detect", 0, "kind"),
            f"the rules hold on a fresh machine: {fact}",
            "`yendo detect derive` proposes rules that tell the two apart",
        )
