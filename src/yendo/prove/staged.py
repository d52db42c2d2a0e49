"""Scenarios of a machine in a certain state, and of people at it: only one that can be put into any state plays them.

On any other each becomes a phase that was executed nowhere, and no fresh machine is made for it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

import msgspec

from yendo.facts.machine import Facts
from yendo.machines.protocol import Session, Staging
from yendo.package import manifest as form
from yendo.platforms.windows.exit_codes import DONE
from yendo.prove.plays import changes, cut_simulated, installed
from yendo.prove.stage import Stage

NOT_ON_LAYER = "only a simulated machine can be put into this state"
REFUSALS = (form.LATER, form.NOT_APPLICABLE, form.NEED_MISSING, form.POSTPONED)
STATE = ("facts", "the machine's facts", "a machine in this state")


@contextmanager
def fresh(
    stage: Stage, phase: str, title: str, expected: str, why: str = NOT_ON_LAYER
) -> Iterator[tuple[Session, Staging] | None]:
    """A fresh machine with its staging; None on one that is real, where the phase says ``why`` it was not executed."""
    if stage.machine.evidence:
        stage.phase(phase, title, None, expected, why)
        yield None
        return
    with stage.machine.fresh(stage.account) as session:
        assert session.staging is not None
        yield session, session.staging


def consent(*, agrees: bool) -> Callable[[Stage], None]:
    """The person is asked before a prerequisite is installed: the package goes on, or nothing of it is done."""

    def play(stage: Stage) -> None:
        with fresh(stage, "person", "a person who is asked", "a person who answers") as found:
            if found is None:
                return
            session, staging = found
            staging.facts = msgspec.structs.replace(staging.facts, people=1)
            staging.agrees = [agrees] * len(stage.manifest.needs)
            stage.bring(session)
            before = session.state()
            carried = stage.verb(session, "install")
            changed = [] if agrees else changes(stage, session, before)
            good = carried.exit_code in DONE if agrees else carried.exit_code == form.REFUSED and not changed
            stage.phase(
                "install",
                "installed, the person agreed" if agrees else "refused, the person declined",
                good,
                "exit code accepted" if agrees else f"exit code {form.REFUSED}, nothing changed",
                f"exit code {carried.exit_code}" + ("" if agrees else f", {len(changed)} effects"),
                by=stage.by,
                details=() if good else (*changed[:8], *carried.lines[-3:]),
            )
            if agrees and good:
                stage.detection(session, session.state(), "detected", "detected after the install", True, None)

    return play


def put_off(stage: Stage) -> None:
    """The person says later: nothing is begun. The person says yes the next time: it is installed."""
    with fresh(stage, "put-off", "a person who puts it off", "a person who answers") as found:
        if found is None:
            return
        session, staging = found
        staging.facts = msgspec.structs.replace(staging.facts, people=1)
        staging.agrees = [False, True]
        for name in stage.manifest.in_the_way["install"].programs[:1]:
            session.open_program(name)
        stage.bring(session)
        before = session.state()
        carried = stage.verb(session, "install")
        changed = changes(stage, session, before)
        good = carried.exit_code == form.POSTPONED and not changed
        stage.phase(
            "put-off", "put off by the person", good, f"exit code {form.POSTPONED}, nothing changed",
            f"exit code {carried.exit_code}, {len(changed)} effects", by=stage.by,
            details=() if good else (*changed[:8], *carried.lines[-3:]),
        )  # fmt: skip
        after = installed(stage, session, "installed when the person agreed")
        if after is not None:
            stage.detection(session, after, "detected", "detected after the install", True, None)


def with_facts(change: Callable[[Facts], Facts], *, refused: bool) -> Callable[[Stage], None]:
    """On a machine whose facts are as said: refused without a trace, or installed all the same."""

    def play(stage: Stage) -> None:
        with fresh(stage, *STATE) as found:
            if found is None:
                return
            session, staging = found
            staging.facts = change(staging.facts)
            stage.bring(session)
            before = session.state()
            carried = stage.verb(session, "install")
            if refused or carried.exit_code in REFUSALS:
                changed = changes(stage, session, before)
                good = carried.exit_code in REFUSALS and not changed
                stage.phase(
                    "install",
                    "refused cleanly",
                    good,
                    "not now or not applicable, nothing changed",
                    f"exit code {carried.exit_code}, {len(changed)} effects",
                    by=stage.by,
                    details=carried.lines[-2:],
                )
                return
            good = carried.exit_code in DONE
            details, cause = ((), ("", "")) if good else stage.failed_run(session, "install", carried)
            stage.phase(
                "install",
                "installed",
                good,
                "exit code accepted",
                f"exit code {carried.exit_code}",
                by=stage.by,
                details=details,
                cause=cause,
            )
            if good:
                stage.detection(session, session.state(), "detected", "detected after the install", True, None)

    return play


def shared_host(stage: Stage) -> None:
    """On a host that many people share: refused, or installed in its install mode, and out of it also after a cut."""

    def shared(facts: Facts) -> Facts:
        return msgspec.structs.replace(facts, multi_session=True)

    with_facts(shared, refused=False)(stage)
    if not all(phase.outcome == "passed" for phase in stage.phases):
        return
    with fresh(stage, *STATE) as found:
        if found is None:
            return
        session, staging = found
        staging.facts = shared(staging.facts)
        stage.bring(session)
        if not cut_simulated(stage, session):
            return  # refused there, or too short to be cut off
        within = session.state().get("part", "mode:install") is not None
        carried = stage.verb(session, "install")
        out = session.state().get("part", "mode:install") is None
        stage.phase(
            "mode",
            "in install mode while it works, and out of it after a cut",
            within and out and carried.exit_code in DONE,
            "on while a step is at work, off in the end",
            f"{'on' if within else 'off'} at the cut, {'off' if out else 'still on'} in the end",
            by=stage.by,
        )
