"""The waves of a package for an inventory: which machines each has, what the first covers, and how it would all go."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from yendo.errors import Usage
from yendo.fleet.chances import Expected
from yendo.fleet.columns import Columns
from yendo.fleet.course import Course, Habits, played
from yendo.fleet.covering import Covering, covering
from yendo.fleet.deliveries import Deliveries
from yendo.fleet.foresee import Foreseen
from yendo.fleet.lists import computers_in
from yendo.fleet.waves import Wave, Waves, part
from yendo.plan import Plan

if TYPE_CHECKING:
    from numpy.typing import NDArray

_USUAL = 0.02  # the share that is taken to fail where nothing is known of any package


class PlannedWave(msgspec.Struct, frozen=True):
    """``machines`` by number; ``covering`` is what a chosen group shows of the others, ``left`` are computers that the
    wave names and that do not get the package: they have it, are refused, not known, or in a wave before.
    """

    wave: Wave
    machines: tuple[int, ...]
    covering: Covering | None = None
    left: tuple[str, ...] = ()


def planned(waves: Waves, foreseen: Foreseen, plan: Plan, columns: Columns, base: Path = Path()) -> list[PlannedWave]:
    """Which machines each wave has. A wave's machines are spread over the sites. ``base`` is where lists of computers
    lie. Raises Usage.
    """
    sites = columns.sites()
    left = np.zeros(len(columns), np.bool_)
    left[list(foreseen.gets)] = True
    found: list[PlannedWave] = []
    for wave in waves.wave:
        if wave.cover:
            if missing := [name for name in wave.cover if name not in columns.texts]:
                raise Usage(
                    f"the wave {wave.name} covers {missing[0]}, and no machine of the inventory tells it; known: "
                    f"{', '.join(sorted(columns.texts)) or 'nothing'}"
                )
            group = covering(columns, left, wave.cover, beside(plan, columns), part(wave.share), wave.most or 0)
            chosen = np.array(group.machines, np.int64)
        else:
            group = None
            chosen = _of_size(wave, left, sites, columns, len(foreseen.gets), base)
        left[chosen] = False
        out = set(_named(wave, base)) - {columns.computers[one].lower() for one in chosen}
        found.append(PlannedWave(wave, tuple(int(one) for one in chosen), group, tuple(sorted(out))))
    return found


def beside(plan: Plan, columns: Columns) -> Mapping[str, NDArray[np.bool_]]:
    """Who has what the package touches: programs that it closes, by the names of files, as far as lists tell."""
    words = {name.lower().removesuffix(".exe") for name in plan.in_the_way.programs}
    found: dict[str, NDArray[np.bool_]] = {}
    for word in sorted(words):
        has = np.zeros(len(columns), np.bool_)
        for number, program in enumerate(columns.programs):
            if word in program.name.lower().replace(" ", ""):
                has[columns.having(number)] = True
        if has.any():
            found[word] = has
    return found


def as_persons_may(waves: Waves, plan: Plan) -> Waves:
    """With ``put_off`` in every wave as it is at the computer: at most what the package allows, nothing where it asks
    nobody.
    """
    own = plan.in_the_way.postpone if plan.in_the_way and plan.in_the_way.ask else 0
    each = [
        msgspec.structs.replace(wave, put_off=own if wave.put_off is None else min(wave.put_off, own))
        for wave in waves.wave
    ]
    return msgspec.structs.replace(waves, wave=tuple(each))


def courses_of(
    waves: Waves, groups: Sequence[PlannedWave], columns: Columns, failures: Expected | None, habits: Habits, times: int
) -> list[Course]:
    """How it would go, so many times: machines fail at the rate that is expected, sites alike as a rule are."""
    sites = columns.sites()
    machines = [np.array(one.machines, np.int64) for one in groups]
    whole = sum(len(one) for one in machines) or 1
    rate = min(max(failures.middle / whole, 0.001), 0.9) if failures else _USUAL
    found = []
    for seed in range(1, times + 1):
        chance = np.random.default_rng(seed)
        own = {name: chance.beta(rate * 20, (1 - rate) * 20) for name in sorted(set(sites))}
        rates = np.array([own[name] for name in sites])
        found.append(played(waves, machines, sites, rates, habits, seed=seed))
    return found


def tagged(wave: Wave, columns: Columns, base: Path) -> tuple[int, ...]:
    """The machines of a wave that goes by a tag, by names or by a list, by number. Raises Usage."""
    if wave.tag is None:
        named = _named(wave, base)
        return tuple(number for number, name in enumerate(columns.computers) if name.lower() in named)
    tags = columns.texts.get("tags")
    if tags is None:
        raise Usage(f"the wave {wave.name} goes by a tag, and no machine of the inventory has the column tags")
    wanted = wave.tag.lower()
    has = [wanted in value.lower().replace(",", " ").split() for value in tags.values]
    return tuple(number for number, code in enumerate(tags.codes) if code >= 0 and has[code])


def take_in_later(deliveries: Deliveries, now: datetime) -> int:
    """Takes computers that came later into the standing waves of what is open; how many. Raises Usage."""
    standing = [
        (one, wave) for one in deliveries.all() for wave in one.waves.wave if wave.standing and one.state == "open"
    ]
    if not standing:
        return 0
    columns = deliveries.store.load()
    sites, came = columns.sites(), 0
    for one, wave in standing:
        some = tagged(wave, columns, one.workspace)
        came += deliveries.take_in(one.number, wave, [(columns.computers[at], sites[at]) for at in some], now=now)
    return came


def _named(wave: Wave, base: Path) -> frozenset[str]:
    listed = computers_in(base / wave.listed) if wave.listed else ()
    return frozenset(name.lower() for name in (*wave.computers, *listed))


def _of_size(
    wave: Wave, left: NDArray[np.bool_], sites: Sequence[str], columns: Columns, whole: int, base: Path
) -> NDArray[np.int64]:
    there = np.flatnonzero(left)
    if not wave.size:
        meant = np.zeros(len(columns), np.bool_)
        meant[list(tagged(wave, columns, base))] = True
        return there[meant[there]]
    size = wave.size or "rest"
    count = len(there) if size == "rest" else round(part(size) * whole) if "%" in size else int(size)
    # one of each site in turn, so that no site is the only one that is tried
    order = np.random.default_rng(1).permutation(there)
    rank = np.zeros(len(order), np.int64)
    seen: dict[str, int] = {}
    for at, one in enumerate(order):
        name = sites[one]
        rank[at] = seen.get(name, 0)
        seen[name] = rank[at] + 1
    return np.sort(order[np.argsort(rank, kind="stable")][:count])
