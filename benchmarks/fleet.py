"""All machines: how quickly an inventory is loaded and asked, how good its forecasts, first groups and stops are."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from benchmarks.measure import Figure
from benchmarks.suite import benchmark
from yendo.fleet.chances import StopRule, Tally, expected
from yendo.fleet.columns import ListedProgram
from yendo.fleet.covering import smallest
from yendo.fleet.incoming import FleetMachine, Gathered, ProgramTable
from yendo.fleet.store import Inventory

MACHINES, PROGRAMS = 200_000, 100  # of them on each machine
DELIVERIES, STOPS, INVENTORIES = 400, 2000, 50
ASK = """
import resource, sys, time
from pathlib import Path
from yendo.fleet.asking import holding
from yendo.fleet.foresee import foresee
from yendo.fleet.store import Inventory
from yendo.plan import UninstallEntryRule, read
plan = read(Path(sys.argv[2]) / "plan.toml")[0]
begun = time.perf_counter()
columns = Inventory(sys.argv[1]).load()
found = foresee(plan, Path(sys.argv[2]), columns)
took = time.perf_counter() - begun
begun = time.perf_counter()
lacking = int((holding(UninstallEntryRule(name="Program 3"), columns) == 0).sum())
asked = time.perf_counter() - begun
assert found.there + len(found.gets) + sum(count for _, count in (*found.refused, *found.unknown)) == len(columns)
print(took, asked, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024, lacking)
"""


@benchmark
def fleet_inventory(folder: Path) -> list[Figure]:
    """200,000 machines with 100 programs each: loaded, a package with 40 conditions foreseen, who lacks a program."""
    chance = np.random.default_rng(1)
    words = {
        "windows": [f"10.0.{build}.{number}" for build in (19045, 22631, 26100) for number in range(1000, 6000, 250)],
        "architecture": ["x64", "x64", "x64", "arm64"], "edition": ["Enterprise", "Professional"],
        "language": ["en-GB", "de-DE", "fr-FR"], "site": [f"site {number}" for number in range(80)],
        "model": [f"model {number}" for number in range(150)], "domain": ["marrowby.example", "-"],
    }  # fmt: skip
    picked = {name: chance.integers(0, len(some), MACHINES) for name, some in words.items()}
    found = Gathered()
    for number in range(MACHINES):
        found.machines[f"pc{number}"] = FleetMachine(
            computer=f"PC{number}", texts={name: words[name][picked[name][number]] for name in words},
            numbers={"memory": int(chance.integers(4, 64)) << 30, "disk C": int(chance.integers(1, 500)) * 10**9},
        )  # fmt: skip
    programs = tuple(ListedProgram(f"Program {one // 8}", f"{one % 8}.{one % 3}.0", "Tidewell") for one in range(8000))
    common = 1 / (np.arange(8000) + 20.0)
    where = np.repeat(np.arange(MACHINES, dtype=np.uint32), PROGRAMS)
    which = chance.choice(8000, MACHINES * PROGRAMS, p=common / common.sum()).astype(np.uint32)
    found.tables = [ProgramTable(tuple(one.computer for one in found.machines.values()), programs, where, which)]
    Inventory(folder / "fleet.db").keep(found)
    plan = '[package]\nid = "p"\nname = "P"\nversion = "1.0"\npublisher = "Tidewell"\narchitecture = "x64"\n[when]\n'
    plan += 'os = ">=10.0.19045"\nmemory = "4 GB"\ndisk = "2 GB"\narchitecture = ["x64"]\nlanguage = ["en", "de"]\n'
    plan += 'domain = true\nedition = ["Enterprise", "Professional"]\n'
    for number in range(33):
        rule = f'kind = "uninstall-entry"\nname = "Program {number * 5}"\nversion = ">={number % 5}.0"'
        plan += f"[[when.holds]]\n{rule}\n" if number % 3 else f'[[when.all]]\nos = ">=10.0.{19000 + number}"\n'
    plan += '[[install]]\nkind = "restart"\n[[detect]]\nkind = "uninstall-entry"\nname = "Program 7"\nversion = ">=3"\n'
    (folder / "plan.toml").write_text(plan, "utf-8")
    told = subprocess.run(
        [sys.executable, "-c", ASK, str(folder / "fleet.db"), str(folder)], capture_output=True, text=True, check=True
    ).stdout.split()
    detail = f"{len(where):,} programs, a file of {(folder / 'fleet.db').stat().st_size >> 20} MB"
    return [
        Figure("load and foresee 200,000 machines", float(told[0]), 5, "s", detail),
        Figure("who lacks a program", float(told[1]), 0.5, "s", f"{told[3]} machines"),
        Figure("memory", float(told[2]), 2000, "MB", detail),
    ]


@benchmark
def fleet_forecasts(folder: Path) -> list[Figure]:
    """The share of simulated deliveries whose failures are within the 90 % interval, also where the model is wrong."""
    found = []
    for together, most in ((False, 14), (True, 20)):
        chance = np.random.default_rng(7)
        held, widths = [], []
        for _ in range(DELIVERIES):
            inside, width = _delivery(chance, together)
            held.append(inside)
            widths.append(width)
        name = "sites that fail together" if together else "as the model has it"
        detail = f"{DELIVERIES} deliveries, median width {np.median(widths):.1%} of the machines"
        found.append(Figure(f"outside the 90 % interval, {name}", 100 - 100 * float(np.mean(held)), most, "%", detail))
    return found


def _delivery(chance: np.random.Generator, together: bool) -> tuple[bool, float]:
    """One delivery after some other packages: whether its failures are in the interval, and how wide that is."""
    sites = int(chance.integers(3, 12))
    mean, alike, inner = (
        chance.choice([0.005, 0.01, 0.02, 0.04, 0.08]),
        chance.choice([3, 10, 40]),
        chance.choice([5, 20, 100]),
    )

    def rates() -> np.ndarray:
        rate = max(chance.beta(mean * alike, (1 - mean) * alike), 1e-4)
        if not together:
            return chance.beta(rate * inner, (1 - rate) * inner, sites)
        found = np.full(sites, rate * 0.5)
        bad = chance.random(sites) < 0.15
        found[bad] = np.minimum(rate * chance.uniform(3, 6), 0.9)
        return 1 / (1 + np.exp(-(np.log(found / (1 - found)) + chance.normal(0, 0.4, sites))))

    others = []
    for _ in range(int(chance.integers(2, 15))):
        tried = chance.integers(5, 60, sites)
        others.append(_tally(tried, chance.binomial(tried, rates())))
    own, machines = rates(), chance.integers(20, 200, sites)
    first = np.minimum(chance.integers(0, 8, sites), machines)
    began, rest = chance.binomial(first, own), machines - first
    failed = int(chance.binomial(rest, own).sum())
    told = expected([int(one) for one in rest], _tally(first, began), others, seed=int(chance.integers(10**9)))
    return told.low <= failed <= told.high, (told.high - told.low) / float(rest.sum())


def _tally(tried: Sequence[int], failed: Sequence[int]) -> Tally:
    return Tally(tuple(int(one) for one in tried), tuple(int(one) for one in failed))


@benchmark
def fleet_stops(folder: Path) -> list[Figure]:
    """The rule that stops, on clustered deliveries whose successes report first: false stops, and machines broken."""
    chance = np.random.default_rng(3)
    false, acceptable = 0, 0
    hurt: dict[int, list[float]] = {2: [0, 0], 5: [0, 0]}
    for number in range(STOPS):
        times = (1, 1, 2, 5)[number % 4]
        alike = (0, 60, 20, 6, 3)[number % 5]
        stopped, broken, whole, share = _stopped(chance, 0.05 * times, alike)
        if share <= 0.05:
            acceptable += 1
            false += stopped
        elif times > 1:
            hurt[times][0] += broken
            hurt[times][1] += whole
    detail = f"{STOPS} deliveries of 3,000 machines, sites from alike to very unlike; limit 5 %"
    return [
        Figure("false stops", 100 * false / acceptable, 5, "%", f"{false} of {acceptable} acceptable ones; {detail}"),
        *(
            Figure(f"machines broken at {times} times the limit, against the end", some[0] / some[1], 0.5, "x", detail)
            for times, some in hurt.items()
        ),
    ]  # fmt: skip


def _stopped(chance: np.random.Generator, rate: float, alike: int) -> tuple[bool, int, int, float]:
    """Whether one delivery was stopped, how many machines were broken then, how many would be, and their share."""
    count, sites = 3000, int(chance.integers(2, 30))
    own = chance.beta(rate * alike, (1 - rate) * alike, sites) if alike else np.full(sites, rate)
    site = chance.choice(sites, count, p=chance.dirichlet(np.full(sites, 2.0)))
    fails = chance.random(count) < own[site]
    rule = StopRule(0.05, 0.05, {str(one): int((site == one).sum()) for one in range(sites)})
    for begin, end in ((0, 40), *((at, min(at + 200, count)) for at in range(40, count, 200))):
        some = np.arange(begin, end)
        for one in some[np.argsort(chance.exponential(1, len(some)) * (1 + 2 * fails[some]))]:
            if rule.report(str(site[one]), failed=bool(fails[one])):
                return True, int(fails[:end].sum()), int(fails.sum()), float(fails.mean())
    return False, int(fails.sum()), int(fails.sum()), float(fails.mean())


@benchmark
def fleet_first_group(folder: Path) -> list[Figure]:
    """Machines of the first group for 95 % coverage, against the exact optimum by an independent formulation."""
    ratios = []
    for number in range(INVENTORIES):
        sets, weight = _inventory(np.random.default_rng(number))
        ratios.append(len(smallest(sets, weight, 0.95)) / _optimum(sets, weight, 0.95))
    return [
        Figure("machines of the first group, against the optimum", max(ratios), 1.15, "x", f"{INVENTORIES} inventories")
    ]


def _inventory(chance: np.random.Generator) -> tuple[list[frozenset[int]], np.ndarray]:
    count = int(chance.integers(60, 400))
    sizes = [int(chance.integers(*bounds)) for bounds in ((4, 10), (8, 40), (3, 15), (2, 6))]
    columns = [chance.choice(size, count, p=chance.dirichlet(np.full(size, 0.7))) for size in sizes]
    begins = np.cumsum([0, *sizes])
    sets = [
        frozenset(int(column[one] + begin) for column, begin in zip(columns, begins, strict=False))
        for one in range(count)
    ]
    weight = np.zeros(int(begins[-1]))
    for one in sets:
        weight[list(one)] += 1
    return sets, weight


def _optimum(sets: list[frozenset[int]], weight: np.ndarray, share: float) -> int:
    """By asking whether ``k`` machines are enough for each k: the most that k can cover, as an integer programme."""
    from scipy.optimize import Bounds, LinearConstraint, milp

    distinct = sorted(set(sets), key=sorted)
    table = np.zeros((len(weight) + 1, len(distinct) + len(weight)))
    for number, one in enumerate(distinct):
        table[list(one), number] = -1
    table[np.arange(len(weight)), len(distinct) + np.arange(len(weight))] = 1
    table[-1, : len(distinct)] = 1
    for count in range(1, len(distinct) + 1):
        limits = LinearConstraint(table, -np.inf, np.concatenate([np.zeros(len(weight)), [count]]))
        found = milp(
            -np.concatenate([np.zeros(len(distinct)), weight]), constraints=limits,
            integrality=np.ones(table.shape[1]), bounds=Bounds(0, 1),
        )  # fmt: skip
        if -found.fun >= share * weight.sum() - 1e-9:
            return count
    return len(distinct)
