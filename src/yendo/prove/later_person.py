"""Whoever logs on after a package was installed: what everybody is to have reaches them too."""

from __future__ import annotations

from collections.abc import Iterator

from yendo.effects import RegistryValue
from yendo.machines.protocol import Session
from yendo.platforms.windows import paths
from yendo.platforms.windows.capture_record import promise_of
from yendo.platforms.windows.registry_keys import PEOPLE, PERSON
from yendo.prove import staged
from yendo.prove.plays import installed
from yendo.prove.stage import Stage
from yendo.steps.registry import RegistryChanges


def later_person(stage: Stage) -> None:
    """Somebody who never was on the machine logs on afterwards, and finds what everybody is to have."""
    title, expected = "somebody new has what everybody is to have", "every value of people's own, as the others have it"
    with staged.fresh(stage, "later", title, expected, "no other person logs on to this machine") as found:
        if found is None:
            return
        session, staging = found
        if installed(stage, session) is None:
            return
        there, someone = staging.users[0], staging.someone_new()
        wanted = list(_everybodys(stage))
        when = "as soon as they are there"
        wrong = _lacking(session, wanted, there, someone)
        for words, happens in (("at log-on", staging.first_log_on), ("at the first start", staging.start_from_menu)):
            if wrong:
                happens(someone)
                when, wrong = words, _lacking(session, wanted, there, someone)
        good, words = not wrong, f"{len(wanted) - len(wrong)} of {len(wanted)}{'' if wrong else f', {when}'}"
        stage.phase("later", title, good, expected, words, by=stage.by, details=tuple(wrong[:10]))


def _lacking(session: Session, wanted: list[tuple[str, str, str]], there: str, someone: str) -> list[str]:
    """Which values somebody has not as the one who was there has them, or the account that installed."""
    state, wrong = session.state(), []
    for hive, key, name in wanted:
        shown = paths.join(PERSON, key, name or "(unnamed)")
        own = key if hive == PERSON else paths.join(there, key)
        usual = state.get("registry", RegistryValue(hive, own, name).identity)
        found = state.get("registry", RegistryValue(PEOPLE, paths.join(someone, key), name).identity)
        if not isinstance(usual, RegistryValue) or not isinstance(found, RegistryValue):
            wrong.append(f"{shown}: not there")
        elif (found.type, found.data) != (usual.type, usual.data):
            wrong.append(f"{shown}: {found.data!r}")
    return wrong


def _everybodys(stage: Stage) -> Iterator[tuple[str, str, str]]:
    """Values of people's own that a package sets for everybody: the hive in which the one who was there has them, key
    and name. What a database brings of a capture is its installer's account's at first.
    """
    for action in stage.manifest.install:
        if action.kind == "registry" and (own := RegistryChanges.of(action)).each:
            for item in own.items:
                if item.hive == PERSON:
                    yield from ((PEOPLE, item.key, name) for name, _, _ in item.values)
    promise = promise_of(stage.package)
    if promise is not None and any(action.kind == "msi" for action in stage.manifest.install):
        for effect in promise.kept:
            if isinstance(effect.thing, RegistryValue) and effect.thing.hive == PERSON and effect.change != "remove":
                yield PERSON, effect.thing.key, effect.thing.name
