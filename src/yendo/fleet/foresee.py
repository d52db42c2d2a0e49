"""What a package would meet: who has it, who gets it, who is refused and by what, how many fail, what it costs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from yendo.errors import Usage
from yendo.fleet.asking import asked, both, holding
from yendo.fleet.chances import Expected, Tally, expected
from yendo.fleet.columns import NO, UNKNOWN, YES, Columns
from yendo.fleet.store import FleetOutcome
from yendo.plan import Plan, UninstallEntryRule
from yendo.shelf import record
from yendo.terms import when
from yendo.terms.rules import MsiProductRule, Rule

if TYPE_CHECKING:
    from yendo.fleet.columns import Truth

NOWHERE = "(no site)"


class Foreseen(msgspec.Struct, frozen=True, kw_only=True):
    """``refused`` and ``unknown`` are by the words of each question, the commonest first; a machine counts for the
    first that refuses it. ``judged`` says by what it was told who has the package already. ``gets`` are machines by
    number.
    """

    machines: int
    there: int
    gets: tuple[int, ...]
    refused: tuple[tuple[str, int], ...]
    unknown: tuple[tuple[str, int], ...]
    judged: str
    failures: Expected | None
    seconds: float | None
    disk: int
    network: int


def foresee(
    plan: Plan, base: Path, columns: Columns, outcomes: Sequence[FleetOutcome] = (), *, now: str = ""
) -> Foreseen:
    """Foresees a package for an inventory. ``base`` is its workspace, ``now`` an ISO date for conditions on a date."""
    inventories = _inventories(plan, base)
    condition = asked(when.resolve(plan.when), columns, inventories=inventories, now=now)
    there, judged = presence(plan, base, columns)
    rest = there != YES
    refused, open_ = _reasons(condition.questions, rest)
    wanted = rest & (condition.whole == YES)
    unsure = wanted & (there == UNKNOWN)
    if unsure.any():
        open_ = (*open_, ("whether it is there already", int(unsure.sum())))
    gets = np.flatnonzero(wanted & ~unsure)
    size = _size(base, plan)
    return Foreseen(
        machines=len(columns),
        there=int((~rest).sum()),
        gets=tuple(int(one) for one in gets),
        refused=refused,
        unknown=open_,
        judged=judged,
        failures=failures(plan, columns, gets, outcomes),
        seconds=_seconds(plan, outcomes),
        disk=size,
        network=size * len(gets),
    )


def presence(plan: Plan, base: Path, columns: Columns) -> tuple[Truth, str]:
    """Who has the package, as far as lists of programs tell; and by what that was judged.

    By those detection rules that a list of programs answers, else by the entry or the product that its last build would
    bring.
    """
    rules: tuple[Rule, ...] = tuple(plan.detect)
    answers = [holding(rule, columns) for rule in rules]
    if told := [one for one in answers if not np.all(one == UNKNOWN)]:
        words = "its detection rules" if len(told) == len(rules) else f"{len(told)} of its {len(rules)} detection rules"
        return both(told, len(columns)), words
    claims = record.read(base)
    for claim in claims.claims if claims else ():
        rule = _rule_of(claim.kind, claim.identity, claim.label, plan.package.version)
        if rule is not None:
            return holding(rule, columns), f"{claim.label}, which its last build brings"
    if rules:
        return np.full(len(columns), UNKNOWN, np.int8), "nothing that a list of programs tells"
    return np.zeros(len(columns), np.int8), "nothing: it has no detection rule"


def _rule_of(kind: str, identity: str, label: str, version: str) -> Rule | None:
    if kind == "product":
        return MsiProductRule(code=identity.upper())
    if kind == "uninstall-entry":
        return UninstallEntryRule(name=label.removeprefix("installed program ").strip('“”"'), version=f"=={version}")
    return None


def _reasons(
    questions: Mapping[str, Truth], rest: np.ndarray[tuple[int], np.dtype[np.bool_]]
) -> tuple[tuple[tuple[str, int], ...], tuple[tuple[str, int], ...]]:
    """How many each question refuses, and of how many nobody knows; each machine counts once, for the first."""
    refused: Counter[str] = Counter()
    unknown: Counter[str] = Counter()
    left = rest.copy()
    for words, answer in questions.items():
        here = left & (answer == NO)
        if count := int(here.sum()):
            refused[words] = count
        left &= ~here
    for words, answer in questions.items():
        here = left & (answer == UNKNOWN)
        if count := int(here.sum()):
            unknown[words] = count
        left &= ~here
    return tuple(refused.most_common()), tuple(unknown.most_common())


def failures(
    plan: Plan, columns: Columns, gets: np.ndarray[tuple[int], np.dtype[np.int64]],
    outcomes: Sequence[FleetOutcome],
) -> Expected | None:  # fmt: skip
    """How many of the machines would fail, from what happened; None where nothing did yet."""
    if not outcomes or not len(gets):
        return None
    sites = site_names(columns)
    names = sorted({sites[one] for one in gets})
    own = [one for one in outcomes if _is_of(one, plan) and one.version == plan.package.version]
    others: dict[tuple[str, str], list[FleetOutcome]] = {}
    for one in outcomes:
        if not (_is_of(one, plan) and one.version == plan.package.version):
            others.setdefault((one.package, one.version), []).append(one)
    coming = Counter(sites[one] for one in gets)
    causes = Counter(one.cause or "not told" for one in (own or outcomes) if one.failed)
    return expected(
        [coming[name] for name in names], _tally(own, names), [_tally(some) for some in others.values()], causes
    )


def site_names(columns: Columns) -> list[str]:
    """The site of each machine."""
    column = columns.texts.get("site")
    return [(column.at(number) or NOWHERE) if column else NOWHERE for number in range(len(columns))]


def _tally(some: Sequence[FleetOutcome], names: Sequence[str] | None = None) -> Tally:
    tried, failed = (
        Counter(one.site or NOWHERE for one in some),
        Counter(one.site or NOWHERE for one in some if one.failed),
    )
    sites = [*(names or ()), *sorted(tried.keys() - set(names or ()))]
    return Tally(tuple(tried[name] for name in sites), tuple(failed[name] for name in sites))


def _is_of(one: FleetOutcome, plan: Plan) -> bool:
    """Whether an outcome is the package's: a table has its id, the runner's log its name."""
    return one.package in (plan.package.id, plan.package.name)


def _seconds(plan: Plan, outcomes: Sequence[FleetOutcome]) -> float | None:
    """The usual time that the package takes on a machine, from earlier outcomes of it."""
    known = sorted(one.seconds for one in outcomes if _is_of(one, plan) and not one.failed and one.seconds > 0)
    return known[len(known) // 2] if known else None


def _size(base: Path, plan: Plan) -> int:
    """Bytes that go to each machine: the vendor's files and those of the workspace."""
    found = 0
    for medium in plan.media:
        path = base / "media" / medium.file
        found += path.stat().st_size if path.is_file() else medium.size or 0
    return found


def _inventories(plan: Plan, base: Path) -> dict[str, str]:
    """The files that put computers into groups. Raises Usage."""
    found: dict[str, str] = {}

    def look(condition: when.Condition | None) -> None:
        if condition is None:
            return
        if condition.inventory:
            path = base / condition.inventory.replace("\\", "/")
            if path.is_file():
                try:
                    found[condition.inventory] = path.read_text("utf-8-sig")
                except (OSError, UnicodeDecodeError) as error:
                    raise Usage(f"{condition.inventory} cannot be read: {error}") from error
        for inner in (*condition.all, *condition.any, condition.not_):
            look(inner)

    look(plan.when)
    return found
