"""What a draft knows from carrying its installer out on simulated machines, whole and in the ways that a decision could
change it: detection that holds in all of them and tells the broken ones, and what the removal leaves.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from yendo.detect.derive import derive, is_version, portable
from yendo.detect.states import Ground, in_order, main_file
from yendo.draft.setups import TRIED_IN, tried
from yendo.effects import Effect, Environment, File, RegistryValue, Service, State, difference
from yendo.effects.things import key_of
from yendo.errors import YendoError
from yendo.formats.msi import Database
from yendo.installers.account import InstallerAccount, Silent
from yendo.installers.msi.layers import Layers
from yendo.machines.protocol import BROUGHT
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.platforms.windows import exit_codes, folders, paths, systems
from yendo.platforms.windows.recording import is_temporary
from yendo.platforms.windows.surroundings import Surroundings, windows
from yendo.terms.rules import FileRule, Rule

MOST_FILES, MOST_BYTES = 500, 512 << 20  # beyond that a draft would take long, and its plan be full of names
_OTHER_WINDOWS = "server-2022"
MOST_WAYS = 8  # properties and features that are decided otherwise, one at a time
MOST_RULES = 6  # a person reads them
_OVERLAYS = paths.join(folders.DRIVE, "Hand over with it")
_REQUIRED = 0x10  # Feature.Attributes: it cannot be absent


class Lines(msgspec.Struct, frozen=True):
    """The command lines that install and remove something; ``ways`` are further installs, as a person may decide them:
    in words, and the lines.
    """

    install: tuple[str, ...]
    uninstall: str | None
    ways: tuple[tuple[str, tuple[str, ...]], ...] = ()
    brought: Mapping[str, Path] = {}  # folders on the machine -> ours
    there: tuple[Rule, ...] = ()  # hold on the machine already
    stays: bool = False  # nothing that is known removes it, so all that it placed is left
    windows: tuple[str, ...] = ()  # the releases that it takes, where the usual one is none of them


def of_database(
    installer: Path,
    account: InstallerAccount,
    transforms: Sequence[Path],
    patches: Sequence[Path],
    defaults: Mapping[str, str],
) -> Lines:
    """How a database goes with what goes onto it. ``defaults`` are its properties that a person may set. Raises
    Unreadable.
    """
    brought: dict[str, Path] = {BROUGHT: installer.parent}
    places = {}
    for path in (*transforms, *patches):
        folder = next((folder for folder, known in brought.items() if known == path.parent), None)
        if folder is None:
            folder = paths.join(_OVERLAYS, str(len(brought)))
            brought[folder] = path.parent
        places[path] = paths.join(folder, path.name)
    head = f'msiexec /i "{TRIED_IN}{installer.name}" /qn'
    if transforms:
        head += f' TRANSFORMS="{";".join(places[path] for path in transforms)}"'
    after = tuple(f'msiexec /p "{places[path]}" /qn' for path in patches)
    # said to patches too: a person decides by a transform, which stays, not by a property, which a patch forgets
    ways = [
        (f"with {assigned}", tuple(f"{line} {assigned}" for line in (head, *after)))
        for assigned in _decided(installer, account, defaults)
    ]
    product = account.identity.product_code
    away = f"msiexec /x {product} /qn" if product else None
    return Lines(
        (head, *after), away, tuple(ways), brought, tuple(one.there for one in account.wanting), windows=account.takes
    )


def _decided(installer: Path, account: InstallerAccount, defaults: Mapping[str, str]) -> Iterator[str]:
    """What a person may well decide otherwise: a property has another value, an optional feature is left out."""
    for name, value in list(defaults.items())[:MOST_WAYS]:
        other = {"0": "1", "1": "0"}.get(value) or f"{value} otherwise"
        if '"' not in other:
            yield f'{name}="{other}"'
    with Database(installer) as database:
        required = {row.text("Feature") for row in database["Feature"] if row.number("Attributes") & _REQUIRED}
    known = account.payload.features if account.payload else ()
    optional = [one.id for one in known if one.by_default and one.parent and one.id not in required]
    yield from (f"REMOVE={name}" for name in optional[:MOST_WAYS])
    if rest := optional[MOST_WAYS:]:  # each by itself would take long; together they tell nearly as much
        yield f"REMOVE={','.join(rest)}"


def of_setup(installer: Path, silent: Silent) -> Lines | None:
    """How a setup goes by the command lines that reading knows."""
    install = tried(silent.install, installer)
    if install is None:
        return None
    away = silent.uninstall.command if silent.uninstall else None
    return Lines((install,), away, (), {BROUGHT: installer.parent}, stays=away is None)


def anywhere(rule: Rule) -> Rule:
    """A rule with the machine's variables in place of the simulated machine's own folders."""
    if isinstance(rule, FileRule):
        return msgspec.structs.replace(rule, path=portable(rule.path, windows("system").environment))
    return rule


def is_small(account: InstallerAccount) -> bool:
    """Whether it is carried out within the time that somebody waits for a draft."""
    if account.payload is not None and account.family == "msi":
        return account.payload.files <= MOST_FILES and account.payload.size <= MOST_BYTES
    files = [effect.thing for effect in account.effects if isinstance(effect.thing, File)]
    return len(files) <= MOST_FILES and sum(file.size or 0 for file in files) <= MOST_BYTES


class Remains(msgspec.Struct, frozen=True):
    """What stays after a removal on a machine that was ``before``, with that machine's environment."""

    before: State
    effects: tuple[Effect, ...]
    environment: Mapping[str, str]


class Rehearsed(msgspec.Struct, frozen=True):
    """``rules`` are the smallest set that was found, strongest first; none where it is too large to derive while
    somebody waits. ``left`` is what stays for the system account and for a person; None where a removal is not known.
    """

    rules: tuple[Rule, ...]
    left: tuple[Remains, ...] | None


class _Ran(msgspec.Struct, frozen=True):
    """A machine before and after, and after the removal; None where that could not be carried out."""

    before: State
    after: State
    removed: State | None
    environment: Mapping[str, str]

    @property
    def left(self) -> Remains | None:
        return Remains(self.before, self._new(self.removed), self.environment) if self.removed is not None else None

    @property
    def effects(self) -> tuple[Effect, ...]:
        return self._new(self.after)

    def _new(self, state: State) -> tuple[Effect, ...]:
        found = difference(self.before, state)
        return tuple(effect for effect in found if not is_temporary(effect.thing, self.environment))


def rehearse(lines: Lines, *, derives: bool = True) -> Rehearsed | None:
    """None where the simulated machine cannot carry it out."""
    usual, *others = lines.windows or (systems.USUAL,)
    around = SimulatedMachine(usual).surroundings("system")
    # another account, computer and Windows: what comes from the machine is no mark of the product
    other = SimulatedMachine(others[0] if others else _OTHER_WINDOWS)
    elsewhere = msgspec.structs.replace(other.surroundings("user"), computer="ANOTHER-02")
    unpacked: dict[Layers, dict[str, bytes]] = {}
    whole, person = (_carried(lines.install, lines, place, unpacked) for place in (around, elsewhere))
    if whole is None:
        return None
    left = [one.left for one in (whole, person) if one is not None]
    known = [one for one in left if one is not None]
    return Rehearsed(
        tuple(_rules(lines, whole, person, around, unpacked)) if derives else (),
        tuple(known) if len(known) == len(left) else None,
    )


def _rules(
    lines: Lines, whole: _Ran, person: _Ran | None, around: Surroundings, unpacked: dict[Layers, dict[str, bytes]]
) -> Iterator[Rule]:
    """What tells the product on every machine, however it is decided."""
    effects = in_order(whole.effects)
    main = main_file(effect.thing for effect in effects if isinstance(effect.thing, File))
    also = [("this version, for a person", person.after)] if person is not None else []
    for words, way in lines.ways:
        found = _carried(way, lines, around, unpacked, removes=False)
        if found is not None and (main is None or found.after.has(main)):  # without it, nobody would install it
            also.append((f"this version, {words}", found.after))
    also.append(("this version, decided otherwise", _otherwise(whole.after, effects)))
    ground = Ground(whole.before, whole.after, tuple(effects), removed=whole.removed, also=tuple(also))
    if effects:
        yield from (chosen.rule for chosen in derive(ground, whole.environment, most=MOST_RULES).rules)


def _otherwise(state: State, effects: Sequence[Effect]) -> State:
    """The machine without what a change often takes away or sets: services, variables, values.

    A value that says a version belongs to the product, and nobody decides it.
    """
    state = state.copy()
    for effect in effects:
        match effect.thing:
            case RegistryValue(data=str() as text) if text.count(".") and is_version(text):
                pass
            case Service() | RegistryValue() | Environment() as thing:
                state.remove(*key_of(thing))
    return state


def _carried(
    commands: Sequence[str],
    lines: Lines,
    around: Surroundings,
    unpacked: dict[Layers, dict[str, bytes]],
    *,
    removes: bool = True,
) -> _Ran | None:
    """None where the simulated machine cannot carry these commands out. ``unpacked`` is shared by all of them."""
    session = SimulatedSession(around)
    session.installer.unpacked = unpacked
    session.make_hold(lines.there, "")
    before = session.state()
    try:
        for folder, source in lines.brought.items():
            session.bring(source, folder)
        for command in commands:
            if session.run(command, timeout=600).exit_code not in exit_codes.DONE:
                return None
        after = session.state()
        removed = after if lines.stays else _removed(session, lines.uninstall) if removes else None
    except YendoError:
        return None
    return _Ran(before, after, removed, around.environment)


def _removed(session: SimulatedSession, uninstall: str | None) -> State | None:
    try:
        gone = uninstall is not None and session.run(uninstall, timeout=600).exit_code in exit_codes.DONE
    except YendoError:
        gone = False
    return session.state() if gone else None
