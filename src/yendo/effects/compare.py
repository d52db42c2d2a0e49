"""Comparing states, and comparing what was predicted with what was observed."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from yendo.effects.effect import Effect, Origin
from yendo.effects.state import State
from yendo.effects.things import key_of, same


def difference(before: State, after: State, origin: Origin = "observed") -> list[Effect]:
    """The effects that lead from one state to the other, in a stable order."""
    old, new = before.items(), after.items()
    found = [Effect("add", thing, origin) for key, thing in new.items() if key not in old]
    found += [
        Effect("change", thing, origin)
        for key, thing in new.items()
        if key in old and old[key] is not thing and not same(old[key], thing)
    ]
    found += [Effect("remove", thing, origin) for key, thing in old.items() if key not in new]
    return sorted(found, key=lambda effect: (*key_of(effect.thing), effect.change))


def net(effects: Iterable[Effect], before: State, after: State) -> list[Effect]:
    """What is left in the end of effects that led from one state to the other: a later one may change or undo an
    earlier one.

    A difference that none of the effects speaks of is what somebody keeps for himself, and left out.
    """
    said = {key_of(effect.thing): effect for effect in effects}
    found = []
    for effect in difference(before, after, "predicted"):
        if known := said.get(key_of(effect.thing)):
            found.append(msgspec.structs.replace(effect, origin=known.origin, evidence=known.evidence))
    return found


def apply(effects: Iterable[Effect], state: State) -> None:
    """Puts effects onto a state, as they are."""
    for effect in effects:
        if effect.change == "remove":
            state.remove(effect.kind, effect.thing.identity)
        else:
            state.add(effect.thing)


class Agreement(msgspec.Struct, frozen=True):
    """Predicted against observed. An effect with other details than predicted is in both last lists."""

    matched: tuple[Effect, ...]
    missed: tuple[Effect, ...]  # observed, not predicted
    false: tuple[Effect, ...]  # predicted, not observed

    @property
    def recall(self) -> float:
        """Share of observed effects that were predicted; 1.0 when nothing was observed."""
        total = len(self.matched) + len(self.missed)
        return len(self.matched) / total if total else 1.0

    @property
    def precision(self) -> float:
        """Share of predicted effects that were observed; 1.0 when nothing was predicted."""
        total = len(self.matched) + len(self.false)
        return len(self.matched) / total if total else 1.0


def agreement(predicted: Iterable[Effect], observed: Iterable[Effect]) -> Agreement:
    """Pairs effects by thing and change; fields that either side does not know are not compared."""
    waiting = {(effect.change, *key_of(effect.thing)): effect for effect in predicted}
    matched, missed = [], []
    for effect in observed:
        key = (effect.change, *key_of(effect.thing))
        guess = waiting.get(key)
        if guess is not None and same(guess.thing, effect.thing):
            matched.append(effect)
            del waiting[key]
        else:
            missed.append(effect)
    return Agreement(tuple(matched), tuple(missed), tuple(waiting.values()))
