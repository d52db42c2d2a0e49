"""From a suite to packages: who is in it, in which order, what is shared, and what a person has to do."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

import msgspec
import tomlkit

from yendo import atomic
from yendo.draft import writing
from yendo.errors import Usage
from yendo.facts.versions import VersionRange
from yendo.package import build
from yendo.package import manifest as form
from yendo.plan import ExeStep, Plan, PlanError, PlanProblem, UninstallEntryRule
from yendo.plan import read as read_plan
from yendo.plan.model import VERBS
from yendo.plan.places import Path as Place
from yendo.plan.places import nearest
from yendo.platforms.windows import paths
from yendo.steps import home as layout
from yendo.steps import kind_of
from yendo.suite.model import NAME, Suite, SuitePlan, SuiteProduct
from yendo.terms.settings import SettingError, settle

MADE, PARTS = "made", "packages"
_OPEN = re.compile(r"#\s*(?:DECIDE|CONFLICT):\s*(.+)")


class SuiteMember(msgspec.Struct, frozen=True):
    """A product of the suite: where its workspace is, its plan, and how it is asked for."""

    product: SuiteProduct
    workspace: Path
    plan: Plan

    @property
    def id(self) -> str:
        return self.plan.package.id

    @property
    def name(self) -> str:
        return f"{self.plan.package.name} {self.plan.package.version}"


class ByHand(msgspec.Struct, frozen=True):
    """A product that cannot go unattended: why, and what a person has to do."""

    product: str
    reason: str
    do: str


class Resolved(msgspec.Struct, frozen=True):
    """A suite worked out: its members in order, what they share (id, range, the workspace's folder that brings it), who
    is left out and why, and what is for a person."""

    suite: Suite
    members: tuple[SuiteMember, ...]
    shared: tuple[tuple[str, str, Path | None], ...]
    left_out: tuple[tuple[str, str], ...]
    by_hand: tuple[ByHand, ...]

    def updates_only(self, member: SuiteMember) -> bool:
        return self.suite.updates_only if member.product.updates_only is None else member.product.updates_only


def resolve(folder: Path, suite: SuitePlan, lines: dict[Place, int]) -> Resolved:
    """Works a suite out.

    Raises PlanError, with the line: a product that is not there, one twice, a circle, ranges that exclude each other.
    """
    path = str(folder / NAME)
    every = list(_read(folder, suite, lines, path))
    members: list[SuiteMember] = []
    left_out: list[tuple[str, str]] = []
    by_hand: dict[str, ByHand] = {}
    languages = [language.lower() for language in suite.suite.languages]
    for at, member in enumerate(every):
        package = member.plan.package
        own = package.language.lower()
        if not member.product.choose:
            left_out.append((member.name, "not chosen"))
        elif languages and own and own not in languages and own.partition("-")[0] not in languages:
            left_out.append(
                (member.name, f"its language {package.language} is not among {', '.join(suite.suite.languages)}")
            )
        elif member.id in [one.id for one in members]:
            text = f"[[product]] {at + 1}: {member.id} is in the suite twice; choose one of them by language or choose = false"  # noqa: E501
            raise PlanError(path, [PlanProblem(nearest(lines, ("product", at)), text)])
        elif problem := next(unattended(member.workspace, member.plan, member.product), None):
            by_hand[member.id] = ByHand(member.name, *problem)
        else:
            members.append(member)
    ids = {member.id for member in every}
    for at, member in enumerate(every):
        for name in [name for name in member.product.after if name not in ids]:
            text = f"[[product]] {at + 1}: after names {name}, which is no product of the suite"
            raise PlanError(path, [PlanProblem(nearest(lines, ("product", at, "after")), text)])
    ordered = _ordered(members, every, path, lines)
    waiting = [
        ByHand(
            member.name,
            f"it is to come after {by_hand[name].product}, which a person sees to",
            f"see to {by_hand[name].product} first",
        )
        for member in ordered
        for name in member.product.after
        if name in by_hand
    ]
    return Resolved(
        suite.suite, tuple(ordered), tuple(_shared(ordered, path)), tuple(left_out), (*by_hand.values(), *waiting)
    )


def _read(folder: Path, suite: SuitePlan, lines: dict[Place, int], path: str) -> Iterator[SuiteMember]:
    for at, product in enumerate(suite.product):
        workspace = (folder / product.workspace).resolve()
        if not (workspace / "plan.toml").is_file():
            text = f"[[product]] {at + 1}: {product.workspace} is no workspace; it has no plan.toml"
            raise PlanError(path, [PlanProblem(nearest(lines, ("product", at, "workspace")), text)])
        yield SuiteMember(product, workspace, read_plan(workspace / "plan.toml")[0])


def _attended(workspace: Path, plan: Plan) -> Iterator[tuple[str, str]]:
    """Steps that want somebody at the machine."""
    for verb in VERBS:
        for at, step in enumerate(plan.steps(verb), 1):
            if step.window:
                yield (
                    f"{verb} step {at} shows a window on purpose",
                    "install it by its own package, with somebody at the machine",
                )
            if isinstance(step, ExeStep) and step.media and not step.arguments:
                yield (
                    f"no silent command line is known for {step.media}",
                    f"yendo try {workspace / 'media' / step.media} --into {workspace}",
                )


def unattended(workspace: Path, plan: Plan, product: SuiteProduct) -> Iterator[tuple[str, str]]:
    """Why a product cannot go with nobody at the keyboard, and what to do about it."""
    for need in plan.need:
        if need.consent:
            yield (
                f"a person has to agree to {need.package or 'a prerequisite'}",
                "install it by its own package, with somebody logged on",
            )
    yield from _attended(workspace, plan)
    if any("restart" in kind_of(step).needs for step in plan.install):
        yield "it restarts the machine in its middle", 'deliver it by its own package, or write packages = "each"'
    secret = [name for name, one in plan.settings.items() if one.secret]
    if secret:
        yield (
            f"the secret {secret[0]} cannot be handed on by a suite",
            "deliver it by its own package, with a values.txt beside it",
        )
    try:
        layers = plan.site.get(product.site or "", {}), product.settings
        settle(plan.settings, *layers)
    except SettingError as error:
        yield (
            error.problems[0],
            f"give it in [[product]] settings, or choose a site: {', '.join(plan.site) or 'there is none'}",
        )
    still = _OPEN.search((workspace / "plan.toml").read_text("utf-8"))
    if (
        still
        and "who answers" not in still[1]
        and "where the file came from" not in still[1]
        and "oldest Windows" not in still[1]
    ):
        yield f"something is still open in its plan: {still[1].strip()}", f"decide it in {workspace / 'plan.toml'}"


def _needed(member: SuiteMember) -> list[str]:
    return [*member.product.after, *(need.package for need in member.plan.need if need.package)]


def _ordered(
    members: Sequence[SuiteMember], every: Sequence[SuiteMember], path: str, lines: dict[Place, int]
) -> list[SuiteMember]:
    """Whoever is needed first, first; else in the order of the file."""
    by_id = {member.id: member for member in members}
    done: list[SuiteMember] = []
    chain: list[str] = []

    def visit(member: SuiteMember) -> None:
        if member in done:
            return
        if member.id in chain:
            circle = " after ".join([*chain[chain.index(member.id) :], member.id])
            raise PlanError(
                path,
                [
                    PlanProblem(
                        nearest(lines, ("product", every.index(member))), f"the suite goes round in a circle: {circle}"
                    )
                ],
            )
        chain.append(member.id)
        for name in _needed(member):
            if name in by_id:
                visit(by_id[name])
        chain.pop()
        done.append(member)

    for member in members:
        visit(member)
    return done


def _asked(members: Sequence[SuiteMember]) -> tuple[dict[str, list[tuple[str, str]]], dict[str, list[Path]]]:
    """What each package that is needed has to be, by whom, and the copies of it that are brought."""
    ranges: dict[str, list[tuple[str, str]]] = {}
    sources: dict[str, list[Path]] = {}
    for member in members:
        for need in member.plan.need:
            if need.package:
                ranges.setdefault(need.package, []).append((member.id, need.version or ""))
                sources.setdefault(need.package, [])
                if need.source:
                    sources[need.package].append(member.workspace / need.source)
    return ranges, sources


def _shared(members: Sequence[SuiteMember], path: str) -> Iterator[tuple[str, str, Path | None]]:
    """Prerequisites that are no members: each once, with a range that suits all, brought by the newest that fits."""
    ids = {member.id for member in members}
    ranges, sources = _asked(members)
    for package, wanted in ranges.items():
        text = ",".join(dict.fromkeys(version for _, version in wanted if version))
        if text and not VersionRange.parse(text).possible:
            said = "; ".join(f"{name} wants {version}" for name, version in wanted if version)
            raise PlanError(path, [PlanProblem(1, f"no version of {package} suits all: {said}")])
        if package in ids:
            there = next(member for member in members if member.id == package).plan.package.version
            if text and not VersionRange.parse(text).fits(there):
                raise PlanError(path, [PlanProblem(1, f"{package} {there} is in the suite, and {text} is needed")])
            continue
        source = _newest(sources[package], text)
        if sources[package] and source is None:
            raise PlanError(
                path, [PlanProblem(1, f"none of the copies of {package} that the products bring is {text}")]
            )
        yield package, text, source


def _newest(sources: Iterable[Path], text: str) -> Path | None:
    """The newest of several copies of a package that is within a range; None where none is."""
    versions = [(form.read(source).version, source) for source in sources]
    fitting = [one for one in versions if not text or VersionRange.parse(text).fits(one[0])]
    return max(fitting, key=lambda one: _number(one[0]))[1] if fitting else None


def _number(text: str) -> tuple[int, ...]:
    return tuple(int(part) for part in re.findall(r"\d+", text)[:4])


# --- writing ------------------------------------------------------------------------------------------


def make(folder: Path, found: Resolved) -> Path:
    """The suite as a workspace of its own in ``made/``: its plan, and every member's built package. Returns where.

    It is complete there, or not there. Raises Usage, and what building a member raises.
    """
    if not found.members:
        raise Usage("nothing of the suite can go unattended, so there is nothing to build")
    with atomic.folder(folder / MADE) as target:
        for member in found.members:
            _part(member, target / "extras" / PARTS)
        for package, _, source in found.shared:
            if source is not None:
                shutil.copytree(source, target / "extras" / PARTS / package)
        atomic.write(target / "plan.toml", writing.spaced(tomlkit.dumps(document(found, folder / MADE))).encode())
    return folder / MADE


def each(folder: Path, found: Resolved) -> list[Path]:
    """Every member's package for itself, below ``package/``, and the order in ``order.json``.

    Raises what building raises.
    """
    target = folder / "package"
    packages = [build.build(member.workspace, member.plan, output=target).folder for member in found.members]
    order = [
        {
            "position": at,
            "package": package.name,
            "install": paths.join(package.name, f"apply.cmd install{_given(member.product)}"),
            "updates_only": found.updates_only(member),
            "after": [name for name in _needed(member) if name in [one.id for one in found.members]],
        }
        for at, (member, package) in enumerate(zip(found.members, packages, strict=True), 1)
    ]
    body = {
        "schema": "yendo.order/1",
        "suite": found.suite.id,
        "version": found.suite.version,
        "order": order,
        "by_hand": msgspec.to_builtins(found.by_hand),
    }
    atomic.write(target / "order.json", msgspec.json.format(msgspec.json.encode(body), indent=2) + b"\n")
    return packages


def _given(product: SuiteProduct) -> str:
    values = "; ".join(
        f"{name}={str(value).lower() if isinstance(value, bool) else value}" for name, value in product.settings.items()
    )
    return (f" -Site {product.site}" if product.site else "") + (f' -Set "{values}"' if values else "")


def _part(member: SuiteMember, target: Path) -> None:
    with tempfile.TemporaryDirectory(prefix="yendo-suite-") as folder:
        made = build.build(member.workspace, member.plan, output=Path(folder)).folder
        shutil.copytree(made, target / member.id)


def there_already(member: SuiteMember) -> dict[str, Any]:
    """The rule that a machine has a product in an earlier version: in the list of programs, or by a
    package of this id.
    """
    package = member.plan.package
    entry = next((rule for rule in member.plan.detect if isinstance(rule, UninstallEntryRule) and rule.name), None)
    rule: dict[str, Any] = {"kind": "uninstall-entry", "name": entry.name if entry else package.name}
    try:
        VersionRange.parse(f"<{package.version}")
        rule["version"] = f"<{package.version}"
    except ValueError:
        pass
    return {"kind": "any", "of": [rule, {"kind": "file", "path": layout.mark(member.plan.log.state, member.id)}]}


def _needs(found: Resolved) -> Iterator[dict[str, Any]]:
    """What several products need, installed once before them."""
    for package, version, source in found.shared:
        need: dict[str, Any] = {"package": package}
        if version:
            need["version"] = version
        if source is not None:
            need |= {"from": f"extras/{PARTS}/{package}", "remove": True}
        yield need


def _others(members: Sequence[SuiteMember], place: Path) -> list[str]:
    """The vendors' other installers that the members are proved with, as they are seen from a folder."""
    every = (member.workspace / name for member in members for name in member.plan.proof.others)
    return [os.path.relpath(other, place) for other in every if other.is_file()]


def document(found: Resolved, place: Path) -> tomlkit.TOMLDocument:
    """The suite's plan."""
    suite, plan = found.suite, tomlkit.document()
    plan.add(tomlkit.comment(f"Made from {NAME} by yendo suite; what is changed here is lost with the next making"))
    body: dict[str, Any] = {
        "package": {"id": suite.id, "name": suite.name, "version": suite.version, "revision": suite.revision}
    }
    body["package"] |= {key: text for key in ("publisher", "contact") if (text := getattr(suite, key))}
    if needs := list(_needs(found)):
        body["need"] = needs
    only = [member for member in found.members if found.updates_only(member)]
    if len(only) == len(found.members):
        body["when"] = {"holds": [{"kind": "any", "of": [there_already(member) for member in only]}]}
    steps, detect = [], []
    for member in found.members:
        step: dict[str, Any] = {"kind": "include", "package": f"extras/{PARTS}/{member.id}", "timeout": "2 h"}
        if member.product.site:
            step["site"] = member.product.site
        if member.product.settings:
            step["settings"] = dict(member.product.settings)
        rules = msgspec.to_builtins(form.with_values(_manifest(member), {}, _values(member), verb="detect").detect)
        asked = msgspec.to_builtins(member.product.when) if member.product.when else {}
        if member in only:
            asked = {**asked, "holds": [*asked.get("holds", []), there_already(member)]}
            detect.append(
                {
                    "kind": "any",
                    "of": [{"kind": "none", "of": [there_already(member)["of"][0]]}, {"kind": "all", "of": rules}],
                }
            )
        elif not asked:
            detect += rules
        if asked:
            step["when"] = asked
        steps.append(step)
    body["install"] = steps
    if len(only) == len(found.members):
        body["uninstall"] = [{"kind": "take-back"}]  # an update that is withdrawn takes no program away
        if others := _others(only, place):
            body["proof"] = {"others": others}
    body["detect"] = detect or [{"kind": "file", "path": layout.mark(found.members[0].plan.log.state, suite.id)}]
    for key, value in body.items():
        plan.add(key, _item(value))
    return plan


def _manifest(member: SuiteMember) -> form.Manifest:
    """Of a member, as much of its manifest as its rules need."""
    package, plan = member.plan.package, member.plan
    return form.Manifest(
        id=package.id, name=package.name, version=package.version, revision=package.revision,
        publisher=package.publisher,
        architecture=package.architecture, scope=package.scope, logs="", install=(), uninstall=(), repair=(),
        detect=plan.detect, files=(),
        settings=plan.settings,
    )  # fmt: skip


def _values(member: SuiteMember) -> dict[str, Any]:
    return {**member.plan.site.get(member.product.site or "", {}), **member.product.settings}


def _item(value: Any, *, inline: bool = False) -> Any:
    """A value as tables where a plan has tables, and inline below them."""
    if isinstance(value, list) and value and all(isinstance(one, dict) for one in value) and not inline:
        return writing.array(*(_table(one) for one in value))
    if isinstance(value, dict) and not inline:
        return _table(value)
    if isinstance(value, dict):
        entry = tomlkit.inline_table()
        entry.update({key: _item(one, inline=True) for key, one in value.items()})
        return entry
    if isinstance(value, list | tuple):
        array = tomlkit.array()
        for one in value:
            array.append(_item(one, inline=True))
        return array.multiline(len(array) > 1 and isinstance(value[0], dict))
    return writing.value(value)


def _table(value: dict[str, Any]) -> Any:
    table = tomlkit.table()
    for key, one in value.items():
        table.add(key, _item(one, inline=True))
    return table
