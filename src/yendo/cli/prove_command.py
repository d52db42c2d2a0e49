"""Install, detect, install again and remove the built package on fresh machines. Exit code 1 when something fails.

yendo prove lantern
yendo prove lantern --quick
yendo prove lantern --machine wine --scenario system --junit proof.xml
yendo prove lantern --scenario all --machine all --jobs 2 --go-on
yendo prove packages --scenario all --go-on --changed-since 2026-11-01
yendo prove packages --scenario all --farm tls://10.0.0.5:8786 --farm-keys farm-keys
yendo prove lantern --kit lantern-kit.zip
yendo prove lantern --from tidewell-lantern-system.result.gz
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import mac_half, machines, prove_away, prove_report, proving
from yendo.machines.kinds import SSH

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from yendo.machines.protocol import Machine
    from yendo.prove.prove import Cell
    from yendo.prove.scenarios import Scenario

    Heard = Callable[[Cell | None, Machine, Scenario], object]


class _Known(tuple[str, ...]):
    """The names that are offered; a computer over SSH is one too."""

    def __contains__(self, name: object) -> bool:
        return super().__contains__(name) or (isinstance(name, str) and name.startswith(SSH))


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "packages",
        type=Path,
        nargs="*",
        metavar="PACKAGE",
        help="a built package, or a workspace (then its newest package); several, or a folder of them: all",
    )
    parser.add_argument(
        "--machine",
        choices=_Known((*machines.NAMES, proving.HERE, "all")),
        metavar="NAME",
        action="append",
        help=f"what to prove on: {', '.join(machines.NAMES)}, all of these, here, or ssh:NAME of machines.toml; may be "
        "given twice (default: what [proof] says, else simulated)",
    )
    machines.add_shell(parser)
    parser.add_argument(
        "--scenario",
        action="append",
        metavar="NAME",
        help="what to play: all, or names from the matrix; may be given several times (default: what [proof] says, "
        "else desk)",
    )
    parser.add_argument(
        "--site",
        action="append",
        metavar="NAME",
        help="with the values of this site only; may be given several times (default: all)",
    )
    parser.add_argument(
        "--quick",
        action="store_true",
        help="the short cycle: as the system account, and removed and installed again, simulated",
    )
    parser.add_argument("--jobs", type=int, default=2, metavar="N", help="how many at once (default: 2)")
    parser.add_argument("--go-on", action="store_true", help="play only what has not passed on these bytes yet")
    parser.add_argument(
        "--changed-since",
        metavar="WHEN",
        help="of several packages only those with a file newer than a day (2026-11-01), or that git shows as changed "
        "since a commit, branch or tag",
    )
    parser.add_argument("--farm", metavar="ADDRESS", help="let the workers of `yendo farm` play, not this computer")
    parser.add_argument("--farm-keys", type=Path, metavar="FOLDER", help="what `yendo farm keys` made")
    kit = parser.add_mutually_exclusive_group()
    kit.add_argument(
        "--kit",
        type=Path,
        metavar="FILE",
        help="prove nothing now: write a zip for a Windows where nothing is installed; it plays system (or "
        "--scenario NAME) there; with several scenarios, or all, a folder of zips",
    )
    machines.add_this_computer(parser)
    parser.add_argument(
        "--although", metavar="WHY", default="", help="with --machine here: why it may be one that belongs to somebody"
    )
    kit.add_argument("--from", type=Path, dest="result", metavar="FILE", help="judge what a kit has brought back")
    parser.add_argument("--junit", type=Path, metavar="FILE", help="also write the phases as JUnit XML")


def run(options: argparse.Namespace) -> int:
    from yendo.errors import Usage

    if options.jobs < 1:
        raise Usage("--jobs is at least 1")
    given = options.packages or [Path()]
    halves = [path for path in given if mac_half.is_meant(path)]
    macs = bool(halves) and mac_half.is_mac(halves[0], options.machine or ())
    if halves and (macs or all(mac_half.is_alone(path) for path in given)):
        return max(mac_half.run_prove(options, path) for path in halves)
    code = _windows(options)
    if halves and not (options.kit or options.result or options.farm or proving.is_away(options)):
        # as data it is in its own record: a command tells one object
        quiet = argparse.Namespace(**{**vars(options), "quiet": options.quiet or options.json, "json": False})
        code = max(code, *(mac_half.run_prove(quiet, path) for path in halves))
    return code


def _windows(options: argparse.Namespace) -> int:
    """The half for Windows, or what has no other."""
    from yendo.cli import prove_several, show
    from yendo.errors import Usage
    from yendo.prove.prove import prove

    paths = prove_several.packages(options.packages)
    if len(paths) > 1 or options.farm or options.changed_since:
        return prove_several.run(options, paths)
    options.package = paths[0]
    package = proving.find(options.package)
    plan, workspace = proving.plan_of(options.package, package)
    if options.kit:
        return prove_away.make_kit(options, package, plan, workspace)
    if options.result:
        return prove_away.judge_result(options, package, plan, workspace)
    if proving.is_away(options):
        if proving.HERE in options.machine:
            return prove_away.prove_here(options, package, plan, workspace)
        if not all(name.startswith(SSH) for name in options.machine):
            raise Usage("machines over SSH are proved by themselves; name the others in another call")
        return prove_away.prove_over_ssh(options, package, plan, workspace)
    where, some, accept = proving.meant(options, package, plan, workspace)
    if len(some) * len(where) > 1:
        return many(options, package, where, some, accept)
    machine = where[0]
    with show.working(f"proving on {machine.label}", quiet=options.quiet or options.json) as progress:
        proof = prove(package, machine, scenario=some[0], progress=progress, accept=accept)
    return prove_report.told(options, package, workspace, proof)


def many(
    options: argparse.Namespace,
    package: Path,
    where: Sequence[Machine],
    some: Sequence[Scenario],
    accept: Sequence[str],
) -> int:
    """The matrix of scenarios and machines."""
    import time

    from yendo.cli import show

    begun = time.monotonic()
    with show.working("proving", quiet=options.quiet or options.json) as progress:
        heard = proving.progress_of(progress, len(some) * len(where))
        cells = cells_of(options, package, where, some, accept, heard)
    return prove_report.many_told(options, package, cells, time.monotonic() - begun)


def cells_of(
    options: argparse.Namespace,
    package: Path,
    where: Sequence[Machine],
    some: Sequence[Scenario],
    accept: Sequence[str],
    heard: Heard,
) -> list[Cell]:
    """Plays every scenario on every machine."""
    from yendo.prove.prove import matrix

    return matrix(package, where, some, jobs=options.jobs, go_on=options.go_on, accept=accept, progress=heard)
