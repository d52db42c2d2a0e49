"""The way back to an earlier package: it is there, this one comes over it, is removed, and the earlier one comes again.

These are the runs of two deliveries, one after the other: this package's uninstall, then the earlier one's install.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

from yendo.effects import Effect, State, difference
from yendo.effects.things import File
from yendo.errors import Usage
from yendo.machines.protocol import BROUGHT, Session
from yendo.package import manifest as form
from yendo.platforms.windows import paths
from yendo.platforms.windows.exit_codes import DONE
from yendo.prove import plays
from yendo.prove.proof import Leftover
from yendo.prove.stage import Stage


def name_of(earlier: Path, package: Path) -> str:
    """The scenario's name. Raises Usage where it is no other build of the same package."""
    if not (earlier / "manifest.json").is_file():
        raise Usage(f"[proof] back_to: {earlier} is no built package; name its folder, with manifest.json in it")
    before, now = form.read(earlier), form.read(package)
    if before.id != now.id or (before.version, before.revision) == (now.version, now.revision):
        raise Usage(
            f"[proof] back_to: {earlier} has {before.id} {before.version} revision {before.revision}, which is no "
            f"other build of {now.id} {now.version} revision {now.revision}"
        )
    return f"back:{before.version}-{before.revision}"


def way_back(earlier: Path) -> Callable[[Stage], None]:
    def play(stage: Stage) -> None:
        first = _beside(stage, earlier)
        version = first.manifest.version
        with stage.machine.fresh(stage.account) as session:
            before = session.state()
            if not _verb(first, session, "install", "earlier", f"{version} installed first"):
                return
            there = session.state()
            first.detection(
                session, there, "earlier-detected", f"{version} is detected by its own rules", True,
                first.script_says(session),
            )  # fmt: skip
            kept = plays.own_data(session, stage.without_own(difference(before, there), session))
            after = plays.installed(stage, session, f"installed over {version}")
            if after is None:
                return
            stage.detection(session, after, "detected", "detected after the install", True, stage.script_says(session))
            if not stage.manifest.uninstall:
                stage.phase(
                    "uninstall", "uninstall", False, "the package removes what it installed", "it has no uninstall",
                    cause=("without an uninstall there is no way back by removing it", "add [[uninstall]]"),
                )  # fmt: skip
                return
            if not _verb(stage, session, "uninstall", "uninstall", "removed"):
                return
            stage.detection(
                session, session.state(), "gone", "not detected after the uninstall", False, stage.script_says(session)
            )
            if not _verb(first, session, "install", "back", f"{version} installed again"):
                return
            back = session.state()
            first.detection(session, back, "back-detected", f"{version} is detected", True, first.script_says(session))
            stage.detection(
                session, back, "back-alone", f"{stage.manifest.version} is not", False, stage.script_says(session)
            )
            _as_before(stage, first, session, there, back, kept)
            if first.manifest.uninstall and _verb(first, session, "uninstall", "removed", f"{version} removed at last"):
                left = _left(stage, first, session, before, session.state(), kept)
                _told(stage, "leftovers", "nothing left behind", "the machine as it was, but for the logs", left)

    return play


def _beside(stage: Stage, earlier: Path) -> Stage:
    """The earlier package on the same machine: what it does is told in the same record."""
    sites = form.sites_of(form.read(earlier))
    site = stage.site if stage.site in sites else None
    first = Stage(earlier, stage.machine, stage.account, stage.progress, stage.accept, site)
    first.folder = paths.join(BROUGHT, f"{first.manifest.id} before")
    first.phases, first.log, first.assumed = stage.phases, stage.log, stage.assumed
    return first


def _verb(stage: Stage, session: Session, verb: str, identifier: str, title: str) -> bool:
    """A verb of one of the two, as a delivery carries it out: with the package laid out anew."""
    stage.bring(session)
    begun = time.monotonic()
    carried = stage.verb(session, verb)
    good = carried.exit_code in DONE
    details, cause = ((), ("", "")) if good else stage.failed_run(session, verb, carried)
    return stage.phase(
        identifier, title, good, "exit code 0, 3010 or 1641", f"exit code {carried.exit_code}", by=stage.by,
        seconds=time.monotonic() - begun, details=details, cause=cause,
    )  # fmt: skip


def _as_before(
    stage: Stage, first: Stage, session: Session, there: State, back: State, kept: str | None
) -> None:  # fmt: skip
    left = _left(stage, first, session, there, back, kept)
    _told(stage, "as-before", f"as {first.manifest.version} had left it", "the machine as before the way there", left)
    if kept:
        plays.data_stays(
            stage, session, kept,
            ("the uninstall takes what people have put there",
             "tell them before going back, or save it in a step of [[uninstall]]"),
        )  # fmt: skip


def _left(
    stage: Stage, first: Stage, session: Session, before: State, now: State, kept: str | None
) -> list[Leftover]:  # fmt: skip
    """What differs, without what the two runners keep, what the machine does by itself and a person's file."""
    effects = _without_caches(difference(before, now))
    if kept:
        mine = {kept.lower(), *paths.parents(kept.lower())}  # the folder that holds it stays for its sake
        effects = [effect for effect in effects if effect.thing.identity not in mine]
    return stage.judged(stage.without_own(first.without_own(effects, session), session), session)


def _without_caches(effects: list[Effect]) -> list[Effect]:
    """Without the Windows Installer's copies of databases, where only their names differ: it makes those up."""

    def copy_of(effect: Effect) -> str | None:
        thing = effect.thing
        return thing.sha256 if isinstance(thing, File) and paths.INSTALLERS_OWN in thing.identity else None

    gone = {copy_of(effect) for effect in effects if effect.change == "remove"}
    came = {copy_of(effect) for effect in effects if effect.change == "add"}
    same = (gone & came) - {None}
    return [effect for effect in effects if copy_of(effect) not in same]


def _told(stage: Stage, identifier: str, title: str, expected: str, found: Sequence[Leftover]) -> None:
    serious = [one for one in found if one.whose == "package"]
    stage.leftovers += found
    stage.phase(
        identifier, title, not serious, expected, f"{len(serious)} differ" if serious else "the same",
        details=tuple(f"{one.what}: {one.reason}" for one in serious[:12]),
        cause=("", "") if not serious else (
            "the way back leaves the machine otherwise than it was",
            "add steps to [[uninstall]] of this package, or accept it in [proof]",
        ),
    )  # fmt: skip
