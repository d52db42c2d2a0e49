"""The first group: as few machines as possible that together show what the others are like."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from yendo.fleet.columns import Columns

if TYPE_CHECKING:
    from numpy.typing import NDArray

EXACTLY = 1500  # different machines
NODES = 5000


class Covering(msgspec.Struct, frozen=True):
    """``machines`` by number; ``covered`` is the share of all machines' properties that some machine of the group has,
    each weighed by how many machines have it; ``missing`` what none has, the commonest first: name, value, machines.
    """

    machines: tuple[int, ...]
    covered: float
    missing: tuple[tuple[str, str, int], ...]


def covering(
    columns: Columns, among: NDArray[np.bool_], by: Sequence[str], risks: Mapping[str, NDArray[np.bool_]], share: float,
    most: int = 0,
) -> Covering:  # fmt: skip
    """Chooses machines of ``among`` by the columns ``by`` and by what they have of ``risks`` (a program beside it, by a
    name), until ``share`` is covered or there are ``most`` of them.
    """
    chosen = np.flatnonzero(among)
    labels: list[tuple[str, str]] = []
    rows: list[NDArray[np.int64]] = []
    for name in by:
        column = columns.texts.get(name)
        if column is None:
            continue
        begin = len(labels)
        labels += [(name, value) for value in column.values]
        codes = column.codes[chosen].astype(np.int64)
        rows.append(np.where(codes < 0, -1, codes + begin))
    for name, has in risks.items():
        labels.append(("beside", name))
        rows.append(np.where(has[chosen], len(labels) - 1, -1))
    if not rows or not len(chosen):
        return Covering((), 0.0, ())
    table = np.stack(rows, 1)
    profiles, first = np.unique(table, axis=0, return_index=True)
    weight = np.bincount(table[table >= 0], minlength=len(labels)).astype(np.float64)
    sets = [frozenset(int(one) for one in row if one >= 0) for row in profiles]
    found = smallest(sets, weight, share)
    if most:
        found = _best_few(sets, weight, found, most)
    have = _union(sets, found)
    missing = sorted(
        (number for number in range(len(labels)) if number not in have and weight[number]), key=lambda n: -weight[n]
    )
    return Covering(
        tuple(sorted(int(chosen[first[one]]) for one in found)),
        float(sum(weight[one] for one in have) / weight.sum()),
        tuple((*labels[number], int(weight[number])) for number in missing),
    )


def smallest(sets: Sequence[frozenset[int]], weight: NDArray[np.float64], share: float) -> list[int]:
    """The fewest of ``sets`` whose union weighs ``share`` of everything: solved exactly where there are up to
    ``EXACTLY`` of them, else by greedy choices that are thinned out afterwards. Deterministic.
    """
    wanted = share * weight.sum() - 1e-9
    if len(sets) <= EXACTLY and (solved := _solved(sets, weight, wanted)):
        return solved
    return _thinned(sets, weight, _greedy(sets, weight, wanted), wanted)


def _solved(sets: Sequence[frozenset[int]], weight: NDArray[np.float64], wanted: float) -> list[int] | None:
    """By an integer programme: which sets are taken, and which elements some taken set has. None where it is not solved
    within the number of steps that it is given.
    """
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import lil_matrix

    count, elements = len(sets), len(weight)
    table = lil_matrix((elements + 1, count + elements))
    for number, one in enumerate(sets):
        for element in one:
            table[element, number] = -1
    for element in range(elements):
        table[element, count + element] = 1
        table[elements, count + element] = -weight[element]
    whole = np.concatenate([np.ones(count), np.zeros(elements)])
    limits = LinearConstraint(table.tocsr(), -np.inf, np.concatenate([np.zeros(elements), [-wanted]]))
    solved = milp(
        whole, constraints=limits, integrality=np.concatenate([np.ones(count), np.zeros(elements)]),
        bounds=Bounds(0, 1), options={"node_limit": NODES},
    )  # fmt: skip
    return [number for number in range(count) if solved.x[number] > 0.5] if solved.x is not None else None


def _greedy(sets: Sequence[frozenset[int]], weight: NDArray[np.float64], wanted: float) -> list[int]:
    have: set[int] = set()
    found: list[int] = []
    total = 0.0
    gains = np.array([weight[list(one)].sum() if one else 0.0 for one in sets])
    while total < wanted and gains.max(initial=0.0) > 0:
        # once one machine is enough, the one that just reaches it is as good as the one that exceeds it
        at = int(np.argmax(np.minimum(gains, wanted - total)))
        fresh = sets[at] - have
        total += weight[list(fresh)].sum()
        have |= fresh
        found.append(at)
        for other, one in enumerate(sets):
            if one & fresh:
                rest = one - have
                gains[other] = weight[list(rest)].sum() if rest else 0.0
    return found


def _thinned(sets: Sequence[frozenset[int]], weight: NDArray[np.float64], found: list[int], wanted: float) -> list[int]:
    """Takes out what the others make superfluous, and puts one in the place of two where one is enough."""
    kept = list(found)
    for one in found:
        rest = [other for other in kept if other != one]
        if _weighs(sets, weight, rest) >= wanted:
            kept = rest
    if len(kept) > 60 or len(sets) > 4000:
        return kept
    for first in range(len(kept)):
        for second in range(first + 1, len(kept)):
            rest = [one for at, one in enumerate(kept) if at not in (first, second)]
            have = _union(sets, rest)
            lacking = wanted - _weighs(sets, weight, rest)
            for other, has in enumerate(sets):
                fresh = has - have
                if fresh and weight[list(fresh)].sum() >= lacking:
                    return _thinned(sets, weight, [*rest, other], wanted)
    return kept


def _union(sets: Sequence[frozenset[int]], some: Sequence[int]) -> frozenset[int]:
    return frozenset[int]().union(*(sets[one] for one in some))


def _weighs(sets: Sequence[frozenset[int]], weight: NDArray[np.float64], some: Sequence[int]) -> float:
    have = _union(sets, some)
    return float(weight[list(have)].sum()) if have else 0.0


def _best_few(sets: Sequence[frozenset[int]], weight: NDArray[np.float64], found: list[int], most: int) -> list[int]:
    """The first ``most`` that cover the most, of those that were found."""
    kept: list[int] = []
    have: frozenset[int] = frozenset()
    while len(kept) < min(most, len(found)):
        at = max((one for one in found if one not in kept), key=lambda one: weight[list(sets[one] - have)].sum())
        kept.append(at)
        have |= sets[at]
    return kept
