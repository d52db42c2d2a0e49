"""Scenarios of packages that upgrade the system: what stands in the way, and what goes back."""

from __future__ import annotations

from yendo.effects import difference
from yendo.package import manifest as form
from yendo.platforms.windows.exit_codes import DONE
from yendo.prove import staged
from yendo.prove.stage import Stage
from yendo.servicing import upgrade
from yendo.terms import events

HELD = "Tidewell Disk Guard"  # a program that no upgrade goes with
# Where it goes back: the second code of the setup's log, as its documentation has them.
PLACES = ("0x1000D", "0x2000C", "0x30018", "0x40019")


def upgrades(manifest: form.Manifest) -> str:
    """Why a package is not asked for it; empty where it is."""
    named = any(action.kind == "system-upgrade" for action in manifest.install)
    return "" if named else "it does not upgrade the system"


def held(stage: Stage) -> None:
    """The setup's trial finds a program in the way: the run fails, says which, and nothing was begun."""
    with staged.fresh(stage, "held", "something in the way", "a setup that says so") as found:
        if found is None:
            return
        session, staging = found
        staging.setup.held = HELD
        stage.bring(session)
        before = session.state()
        carried = stage.verb(session, "install")
        changed = stage.without_own(difference(before, session.state()), session)
        changed = [one for one in changed if "$windows.~bt" not in one.thing.identity.lower()]
        named = [event.what for event in carried.events if isinstance(event, events.UpgradeHeld)]
        told = any(isinstance(event, events.SetupSays) for event in carried.events)
        good = carried.exit_code not in DONE and told and not changed and not staging.setup.pending
        stage.phase(
            "install", f"{HELD} is in the way", good, "not upgraded, and it says what is in the way",
            f"exit code {carried.exit_code}, " + (f"named: {', '.join(named)}" if named else "named: nothing")
            + f", {len(changed)} effects",
            by=stage.by, details=() if good else carried.lines[-4:],
        )  # fmt: skip


def goes_back(stage: Stage) -> None:
    """The setup goes back, in each of its phases: the first exit code was none of a failure, the verdict is."""
    for place in PLACES:
        with staged.fresh(stage, "goes-back", "goes back", "a setup that goes back") as found:
            if found is None:
                return
            session, staging = found
            staging.setup.goes_back = place
            stage.bring(session)
            before = session.facts.windows
            carried = stage.verb(session, "install")
            back = next((event for event in carried.events if isinstance(event, events.WentBack)), None)
            good = back is not None and carried.exit_code == upgrade.WENT_BACK and session.facts.windows == before
            where = back.phase if back else "nothing says where"
            stage.phase(
                "install", f"goes back, {where}", good, "a failure that says in which phase, and why",
                f"exit code {carried.exit_code}" + (f", {back.operation}: {back.words}" if back else ""),
                by=stage.by, details=() if good else carried.lines[-4:],
            )  # fmt: skip
            stage.detection(session, session.state(), "back", "not detected afterwards", False, None)
