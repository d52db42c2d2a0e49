"""Whoever logs on after a package was installed: what everybody is to have reaches them too."""

from __future__ import annotations

from collections.abc import Iterator

from yendo.effects import RegistryValue
from yendo.effects.capture import promise_of
from yendo.machines.protocol import Session
from yendo.prove.plays import installed
from yendo.prove.stage import Stage


def later_person(stage: Stage) -> None:
    """Somebody who never was on the machine logs on afterwards, and finds what everybody is to have."""
    title, expected = "somebody new has what everybody is to have", "every value of people's own, as the others have it"
    with stage.machine.fresh(stage.account) as session:
        staged = session.staging
        if staged is None:
            stage.phase("later", title, None, expected, "no other person logs on to this machine")
            return
        if installed(stage, session) is None:
            return
        there, someone = staged.users[0], staged.someone_new()
        wanted = list(_everybodys(stage))
        when = "as soon as they are there"
        wrong = _lacking(session, wanted, there, someone)
        for words, happens in (("at log-on", staged.first_log_on), ("at the first start", staged.start_from_menu)):
            if wrong:
                happens(someone)
                when, wrong = words, _lacking(session, wanted, there, someone)
        good, words = not wrong, f"{len(wanted) - len(wrong)} of {len(wanted)}{'' if wrong else f', {when}'}"
        stage.phase("later", title, good, expected, words, by=stage.by, details=tuple(wrong[:10]))


def _lacking(session: Session, wanted: list[tuple[str, str, str]], there: str, someone: str) -> list[str]:
    """Which values somebody has not as the one who was there has them, or the account that installed."""
    state, wrong = session.state(), []
    for hive, key, name in wanted:
        own = key if hive == "HKCU" else rf"{there}\{key}"
        usual = state.get("registry", RegistryValue(hive, own, name).identity)
        found = state.get("registry", RegistryValue("HKU", rf"{someone}\{key}", name).identity)
        if not isinstance(usual, RegistryValue) or not isinstance(found, RegistryValue):
            wrong.append(rf"HKCU\{key}\{name or '(unnamed)'}: not there")
        elif (found.type, found.data) != (usual.type, usual.data):
            wrong.append(rf"HKCU\{key}\{name or '(unnamed)'}: {found.data!r}")
    return wrong


def _everybodys(stage: Stage) -> Iterator[tuple[str, str, str]]:
    """Values of people's own that a package sets for everybody: the hive in which the one who was there has them, key
    and name. What a database brings of a capture is its installer's account's at first.
    """
    for action in stage.manifest.install:
        if action.kind == "registry" and action.data.get("each"):
            for item in action.data["items"]:
                if item["hive"] == "HKCU":
                    yield from (("HKU", item["key"], name) for name, _, _ in item["values"])
    promise = promise_of(stage.package)
    if promise is not None and any(action.kind == "msi" for action in stage.manifest.install):
        for effect in promise.kept:
            if isinstance(effect.thing, RegistryValue) and effect.thing.hive == "HKCU" and effect.change != "remove":
                yield "HKCU", effect.thing.key, effect.thing.name
