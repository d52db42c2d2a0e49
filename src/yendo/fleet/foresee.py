"""What a package would meet: who has it, who gets it, who is refused and by what, how many fail, what it costs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from yendo.effects.things import Product, UninstallEntry
from yendo.errors import YendoError
from yendo.fleet.asking import asked, both, each_holding, holding
from yendo.fleet.chances import Expected, Tally, expected
from yendo.fleet.columns import NO, NOWHERE, UNKNOWN, YES, Columns
from yendo.fleet.store import FleetOutcome
from yendo.installers import recognise
from yendo.package import manifest as form
from yendo.package.build import name_of
from yendo.plan import Plan, UninstallEntryRule
from yendo.terms import when
from yendo.terms.amounts import counted
from yendo.terms.rules import MsiProductRule, Rule
from yendo.texts import text_of

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from yendo.fleet.columns import Truth


class Foreseen(msgspec.Struct, frozen=True, kw_only=True):
    """``refused`` and ``unknown`` are by the words of each question, the commonest first; a machine counts for the
    first that refuses it. ``judged`` says by what it was told who has the package already. ``gets`` are machines by
    number. ``to_each`` are the bytes that go to a machine: the package's as it was built last (``built``), else those
    of its vendor's files alone.
    """

    machines: int
    there: int
    gets: tuple[int, ...]
    refused: tuple[tuple[str, int], ...]
    unknown: tuple[tuple[str, int], ...]
    judged: str
    failures: Expected | None
    seconds: float | None
    to_each: int
    built: bool


def foresee(
    plan: Plan, base: Path, columns: Columns, outcomes: Sequence[FleetOutcome] = (), *, now: str = ""
) -> Foreseen:
    """Foresees a package for an inventory. ``base`` is its workspace, ``now`` an ISO date for conditions on a date."""
    condition = asked(when.resolve(plan.when), columns, inventories=_inventories(plan), now=now)
    there, judged = presence(plan, base, columns)
    rest = there != YES
    refused, open_ = _reasons(condition.questions, rest)
    wanted = rest & (condition.whole == YES)
    unsure = wanted & (there == UNKNOWN)
    if unsure.any():
        open_ = (*open_, ("whether it is there already", int(unsure.sum())))
    gets = np.flatnonzero(wanted & ~unsure)
    size, built = _size(base, plan)
    return Foreseen(
        machines=len(columns),
        there=int((~rest).sum()),
        gets=tuple(int(one) for one in gets),
        refused=refused,
        unknown=open_,
        judged=judged,
        failures=failures(plan, columns, gets, outcomes),
        seconds=_seconds(plan, outcomes),
        to_each=size,
        built=built,
    )


def presence(plan: Plan, base: Path, columns: Columns) -> tuple[Truth, str]:
    """Who has the package, as far as lists of programs tell; and by what that was judged.

    By those detection rules that a list of programs answers, else by the product or the line of the list of programs
    that its media bring.
    """
    answers = each_holding(plan.detect, columns)
    if told := [one for one in answers if not np.all(one == UNKNOWN)]:
        count = len(plan.detect)
        return both(told, len(columns)), f"{len(told)} of its {counted(count, 'detection rule')}"
    for rule, medium in _brought(plan, base):
        found = holding(rule, columns)
        if not np.all(found == UNKNOWN):
            return found, f"{rule.title}, which {medium} brings"
    return np.full(len(columns), UNKNOWN, np.int8), "nothing that a list of programs tells"


def _brought(plan: Plan, base: Path) -> Iterator[tuple[Rule, str]]:
    """Rules for what the media bring, by reading them: products, then lines of the list of programs."""
    found: list[tuple[Rule, str]] = []
    for medium in plan.media:
        try:
            effects = recognise.read(base / "media" / medium.file).effects
        except (OSError, YendoError):
            continue
        for thing in (effect.thing for effect in effects):
            if isinstance(thing, Product):
                yield MsiProductRule(code=thing.code, version=thing.version and f"=={thing.version}"), medium.file
            elif isinstance(thing, UninstallEntry) and thing.name and not thing.hidden:
                version = thing.version and f"=={thing.version}"
                found.append((UninstallEntryRule(name=thing.name, version=version), medium.file))
    yield from found


def _reasons(
    questions: Mapping[str, Truth], rest: NDArray[np.bool_]
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
    plan: Plan, columns: Columns, gets: NDArray[np.int64], outcomes: Sequence[FleetOutcome]
) -> Expected | None:
    """How many of the machines would fail, from what happened; None where nothing did yet."""
    if not outcomes or not len(gets):
        return None
    sites = columns.sites()
    names = sorted({sites[one] for one in gets})
    own: list[FleetOutcome] = []
    others: dict[tuple[str, str], list[FleetOutcome]] = {}
    for one in outcomes:
        mine = _is_of(one, plan) and one.version == plan.package.version
        (own if mine else others.setdefault((one.package, one.version), [])).append(one)
    coming = Counter(sites[one] for one in gets)
    causes = Counter(one.cause or "not told" for one in (own or outcomes) if one.failed)
    return expected(
        [coming[name] for name in names], _tally(own, names), [_tally(some) for some in others.values()], causes
    )


def _tally(some: Sequence[FleetOutcome], names: Sequence[str] | None = None) -> Tally:
    tried = Counter(one.site or NOWHERE for one in some)
    failed = Counter(one.site or NOWHERE for one in some if one.failed)
    sites = [*(names or ()), *sorted(tried.keys() - set(names or ()))]
    return Tally(tuple(tried[name] for name in sites), tuple(failed[name] for name in sites))


def _is_of(one: FleetOutcome, plan: Plan) -> bool:
    """Whether an outcome is the package's: a table has its id, the runner's log its name."""
    return one.package in (plan.package.id, plan.package.name)


def _seconds(plan: Plan, outcomes: Sequence[FleetOutcome]) -> float | None:
    """The usual time that the package takes on a machine, from earlier outcomes of it."""
    known = sorted(one.seconds for one in outcomes if _is_of(one, plan) and not one.failed and one.seconds > 0)
    return known[len(known) // 2] if known else None


def _size(base: Path, plan: Plan) -> tuple[int, bool]:
    """Bytes that go to each machine, and whether they are those of a package that was built."""
    package = base / "package" / name_of(plan)
    try:
        return sum(file.size for file in form.read(package).files), True
    except (OSError, YendoError):
        found = 0
        for medium in plan.media:
            path = base / "media" / medium.file
            found += path.stat().st_size if path.is_file() else medium.size or 0
        return found, False


def _inventories(plan: Plan) -> dict[str, str]:
    """The files that put computers into groups, as far as they are reached from here: a plan names them as the machines
    see them.
    """
    found: dict[str, str] = {}
    for name in plan.when.inventories():
        try:
            found[name] = text_of(Path(name).read_bytes())
        except OSError:
            continue
    return found
