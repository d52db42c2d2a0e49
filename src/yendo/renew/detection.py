"""Detection for the new version: made anew as it was made before, with the rules that a person wrote."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import tomlkit

from yendo.detect import detected, seen
from yendo.detect.derive import derive
from yendo.draft import writing
from yendo.errors import YendoError
from yendo.package import build
from yendo.plan import Plan, Rule
from yendo.prove import ground
from yendo.prove.furnished import simulated_for
from yendo.renew import merge
from yendo.renew.merge import Kept, MergeConflict
from yendo.renew.work import Work
from yendo.terms.amounts import counted
from yendo.terms.settings import fill, fill_text


def rules(work: Work, base: Mapping[str, Any]) -> tuple[list[dict[str, Any]], bool]:
    """The rules that a person wrote, and whether the others came from a derivation rather than from the draft."""
    mine = [merge.plain(rule) for rule in work.mine.get("detect", [])]
    drafted = [dict(rule) for rule in base.get("detect", [])]
    drafted += [msgspec.to_builtins(rule) for rule in work.was.at_first_sight]
    rest = [rule for rule in mine if rule not in drafted]
    if not rest:
        return [], False
    known = _derived(work, work.copy, work.plan)
    if known is None:
        return rest, False
    derived = [msgspec.to_builtins(rule) for rule in known]
    own = [rule for rule in rest if _normal(rule) not in [_normal(one) for one in derived]]
    return own, len(own) < len(rest)


def _derived(work: Work, folder: Path, plan: Plan) -> list[Rule] | None:
    """The rules that derivation gives for a workspace; None where the simulated machine cannot carry it out."""
    others = [work.workspace / name for name in plan.proof.others]
    try:
        with tempfile.TemporaryDirectory(prefix="yendo-derive-") as target:
            package = build.build(folder, plan, output=Path(target)).folder
            made = ground.make(
                package,
                [other for other in others if other.is_file()],
                updates=plan.proof.updates_itself,
                machine=simulated_for(plan, work.workspace),
            )
            made = ground.everywhere(made, package)
            return [ground.with_places(one.rule, made) for one in derive(made.ground, made.environment).rules]
    except YendoError:
        return None


def again(work: Work, own: list[dict[str, Any]], from_derive: bool, names: Mapping[str, str]) -> str:
    """The rules of the new plan; returns how they came about, in words."""
    drafted = [dict(rule) for rule in merge.plain(work.now.document).get("detect", [])]
    rules: list[dict[str, Any]] = drafted
    holder = tomlkit.document()
    holder["detect"] = writing.array(*(writing.table(rule) for rule in own))
    work.merge.moved += merge.renamed(
        holder["detect"], {old: new for old, new in names.items() if old != new}, "detect"
    )
    moved_own = [merge.plain(rule) for rule in writing.part(holder, "detect")]
    _set_rules(work, [*rules, *moved_own])
    how = f"drafted anew, {counted(len(rules), 'rule')}"
    plan = work.parsed()
    if from_derive and plan is not None:
        derived = _derived(work, work.copy, plan)
        if derived is not None:
            rules = [msgspec.to_builtins(rule) for rule in derived]
            how = f"derived anew, {counted(len(rules), 'rule')}"
        else:
            work.open.append(
                "yendo detect derive --write: detection had been derived, and could not be derived again here"
            )
    held = _held(work, moved_own) if moved_own else {}
    stay = []
    for rule, was in zip(moved_own, own, strict=True):
        fact = held.get(repr(rule))
        if fact is None:
            stay.append(rule)
            work.merge.kept.append(Kept("detect", str(rule.get("kind"))))
        else:
            text = merge.as_toml(writing.table(was))
            work.merge.conflicts.append(
                MergeConflict(
                    f"detect, {rule.get('kind')}",
                    _short(rule),
                    "you wrote the rule",
                    f"it does not hold: {fact}",
                    f"judged after {work.words[1]} on a simulated machine",
                    "taken out",
                    f"[[detect]]\n{text}",
                )
            )
    _set_rules(work, [*rules, *[rule for rule in stay if _normal(rule) not in [_normal(one) for one in rules]]])
    return how + (f", and {counted(len(stay), 'rule')} of yours" if stay else "")


def _held(work: Work, rules: list[dict[str, Any]]) -> dict[str, str]:
    """Which of a person's rules do not hold once the new version is installed: the rule, and the fact against it."""
    plan = work.parsed()
    if plan is None:
        return {}
    try:
        with tempfile.TemporaryDirectory(prefix="yendo-held-") as target:
            package = build.build(work.copy, plan, output=Path(target)).folder
            made = ground.make(package, machine=simulated_for(plan, work.workspace))
    except YendoError:
        return {}
    judged = {repr(rule): msgspec.convert(rule, Rule) for rule in rules}
    found = {}
    for key, rule in judged.items():
        settled = next((one for one in made.manifest.detect if _alike(one, rule, made)), rule)
        holds, verdicts = detected((settled,), seen(made.ground.after, made.environment))
        if not holds:
            found[key] = verdicts[0].fact
    return found


def _set_rules(work: Work, rules: list[dict[str, Any]]) -> None:
    work.mine.pop("detect", None)
    if rules:
        work.mine["detect"] = writing.array(*(writing.table(rule) for rule in rules))


def _normal(rule: Mapping[str, Any]) -> Any:
    try:
        return msgspec.to_builtins(msgspec.convert(rule, Rule))
    except msgspec.ValidationError:
        return dict(rule)


def _short(rule: Mapping[str, Any]) -> str:
    return ", ".join(f"{key} = {value}" for key, value in rule.items() if key != "kind")


def _alike(settled: Any, rule: Any, made: Any) -> bool:
    """Whether a rule of a manifest is this one with its places filled."""
    if not made.manifest.settings:
        return bool(settled == rule)
    known, values = (
        made.manifest.settings,
        {name: made.manifest.chosen.get(name, "") for name in made.manifest.settings},
    )
    return bool(
        msgspec.to_builtins(settled) == fill(msgspec.to_builtins(rule), lambda text: fill_text(text, known, values))
    )
