"""What an install did against what was foreseen of it, and whose doing it is that something is left."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from yendo.effects import Agreement, Effect, File, IniValue, State, agreement
from yendo.effects.state import ThingKey
from yendo.effects.things import key_of, kind_of
from yendo.evidence import Evidence
from yendo.machines.protocol import Machine, Session
from yendo.package import manifest as form
from yendo.platforms.windows import paths
from yendo.platforms.windows.recording import is_temporary
from yendo.prove import predict
from yendo.prove.proof import Comparison, Leftover
from yendo.terms.rules.base import pattern

InstallPrediction = tuple[Sequence[Effect], Sequence[str]]  # effects, and what only a run can tell


class Predictions:
    """What installs should do to fresh machines: worked out once for all scenarios of the same bytes and values."""

    def __init__(self) -> None:
        self._known: dict[tuple[object, ...], InstallPrediction] = {}

    def of(
        self, key: tuple[object, ...], manifest: form.Manifest, package: Path, session: Session, before: State, *,
        real: bool,
    ) -> InstallPrediction:  # fmt: skip
        """``key`` says whose values, which kind of machine and which account."""
        key = ((package / "manifest.json").read_bytes(), *key)
        if key not in self._known:
            self._known[key] = predict.install_effects(
                manifest, package, session.surroundings, before.copy(), real=real
            )
        return self._known[key]


class EffectsVerdict(msgspec.Struct, frozen=True):
    """The comparison and its verdict; ``good`` is None where it is no evidence. ``because`` has what was foreseen
    for, by its key.
    """

    comparison: Comparison
    because: dict[ThingKey, Evidence | None]
    good: bool | None
    expected: str
    words: str
    details: tuple[str, ...] = ()
    cause: tuple[str, str] = ("", "")


def compared(
    machine: Machine, session: Session, observed: list[Effect], prediction: InstallPrediction
) -> EffectsVerdict:
    """How far the effects on a machine are those that were foreseen."""
    predicted, differences = machine.shown(prediction[0])
    blind = prediction[1]
    if session.surroundings.per_user_menu and (count := sum(_in_menu(effect, session) for effect in predicted)):
        differences[
            "the layer puts menus and desktop below the user's profile even for an installation for everyone"
        ] = count
    found = agreement(predicted, without_contents(observed, predicted))
    comparison = Comparison(
        machine.evidence,
        len(found.matched),
        found.missed,
        found.false,
        found.recall,
        found.precision,
        differences,
        tuple(blind),
    )
    because = {key_of(effect.thing): effect.evidence for effect in predicted}
    total = len(found.matched) + len(found.missed)
    words = f"{len(found.matched)} of {total} observed effects predicted"
    if not machine.evidence:
        words += ": no evidence, one interpreter made both"
        return EffectsVerdict(comparison, because, None, "an observation of its own", words)
    good = found.precision >= 0.98 and (found.recall >= 0.98 or bool(blind)) if total else not predicted
    return EffectsVerdict(
        comparison,
        because,
        good,
        "at least 98 % of the observed effects predicted or a blind spot that explains the rest, at most 2 % false",
        _in_words(found, words, blind),
        tuple(f"not predicted: {effect}" for effect in found.missed[:10])
        + tuple(f"predicted, not seen: {effect}" for effect in found.false[:10]),
        ("", "")
        if good
        else ("the installer does not do what its tables say", "; ".join(blind[:3]) or "see the effects below"),
    )


def _in_words(found: Agreement, words: str, blind: Sequence[str]) -> str:
    if found.missed:
        words += f", {len(found.missed)} not" + (", which a blind spot may have done" if blind else "")
    return f"{words}, {len(found.false)} false"


def _in_menu(effect: Effect, session: Session) -> bool:
    heads = tuple(
        paths.into(session.surroundings.folders[name].lower()) for name in ("StartMenuFolder", "DesktopFolder")
    )
    return kind_of(effect.thing) in ("shortcut", "folder", "file") and effect.thing.identity.startswith(heads)


def judged(
    left: Sequence[Effect], machine: Machine, session: Session, because: Mapping[ThingKey, Evidence | None],
    accept: Sequence[str],
) -> list[Leftover]:  # fmt: skip
    """Whose doing it is that something is left, or gone."""
    found = []
    by_machine = _left_by_the_machine(left, machine, because)
    for effect in left:
        if any(pattern(wanted).fullmatch(effect.left) for wanted in accept):
            found.append(Leftover(effect.left, "accepted in the plan", "accepted"))
        elif is_temporary(effect.thing, session.surroundings.environment):
            found.append(Leftover(effect.left, "a temporary file that the setup program leaves", "temporary"))
        elif reason := by_machine.get(key_of(effect.thing)):
            found.append(Leftover(effect.left, reason, "layer"))
        else:
            done = "removed" if effect.change == "add" else "put back"
            found.append(Leftover(effect.left, f"not {done} by the package"))
    return found


def _left_by_the_machine(
    left: Sequence[Effect], machine: Machine, because: Mapping[ThingKey, Evidence | None]
) -> dict[ThingKey, str]:
    """What is left for reasons of this machine's own, by its key; so is a folder that holds nothing else."""
    found: dict[ThingKey, str] = {}
    innermost_first = sorted(left, key=lambda effect: (effect.kind == "folder", -paths.depth(effect.thing.identity)))
    for effect in innermost_first:
        head = paths.into(effect.thing.identity)
        inside = [one for one in left if one.thing.identity.startswith(head)]
        empty = effect.kind == "folder" and all(key_of(one.thing) in found for one in inside)
        if reason := machine.leaves(effect, because.get(key_of(effect.thing)), empty=empty):
            found[key_of(effect.thing)] = reason
    return found


def without_contents(observed: list[Effect], predicted: list[Effect]) -> list[Effect]:
    """Entries of an ini file that was predicted as a whole are its contents, not effects of their own."""
    whole = {
        effect.thing.identity
        for effect in predicted
        if isinstance(effect.thing, File) and effect.thing.size is not None
    }
    return [
        effect for effect in observed if not (isinstance(effect.thing, IniValue) and effect.thing.path.lower() in whole)
    ]
