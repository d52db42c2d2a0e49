"""Carries out a database: the sequence, in order, with its conditions.

There is one interpreter. Called with a fresh machine's state it predicts what an installation does;
the simulated machine calls it with its own state.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

import msgspec

from yendo.effects import Effect, State
from yendo.effects.things import key_of
from yendo.errors import Unreadable
from yendo.evidence import BlindSpot, Evidence, row
from yendo.formats.msi import Database, TableRow
from yendo.installers.account import Wanted
from yendo.installers.msi import commands
from yendo.installers.msi.actions import NOT_INTERPRETED, STANDARD, WITHOUT_EFFECT
from yendo.installers.msi.actions.system import forget_rights, lock_permissions, lock_permissions_extended
from yendo.installers.msi.session import LOCAL, ActionFailure, InstallSession, Memory
from yendo.platforms.windows.exit_codes import DONE
from yendo.platforms.windows.surroundings import Surroundings

MAX_ACTIONS = 20_000
MAX_NESTING = 8

# What a custom action is, by the low six bits of its type. Source: "Summary List of All Custom Action Types".
CUSTOM_KINDS = {
    1: "library in the database",
    2: "program in the database",
    5: "JScript in the database",
    6: "VBScript in the database",
    17: "library it installs",
    18: "program it installs",
    19: "stop with a message",
    21: "JScript it installs",
    22: "VBScript it installs",
    34: "program by its folder",
    35: "set a folder",
    37: "JScript text",
    38: "VBScript text",
    50: "program by a property",
    51: "set a property",
    53: "JScript from a property",
    54: "VBScript from a property",
    7: "nested installation",
    23: "nested installation",
    39: "nested installation",
}
EVALUATED = {19, 35, 51}


class SequenceStep(msgspec.Struct, frozen=True):
    """One row of the sequence: its number, its condition, whether it ran, and how many effects it had.

    ``kind`` is standard, custom or unknown; ``when`` says when a custom action runs.
    """

    number: int
    action: str
    condition: str
    ran: bool
    kind: str
    effects: int = 0
    when: str = ""


class EngineOutcome(msgspec.Struct, frozen=True):
    """What a run did: exit code, effects in order, blind spots, log lines, what the installer remembers."""

    exit_code: int
    effects: tuple[Effect, ...]
    blind_spots: tuple[BlindSpot, ...]
    log: tuple[str, ...]
    memory: Memory | None
    removed: tuple[str, ...]
    restart: str | None
    features: dict[str, int]
    steps: tuple[SequenceStep, ...] = ()
    properties: dict[str, str] = {}
    components: dict[str, int] = {}
    wanting: tuple[Wanted, ...] = ()  # what would have to be there for it to go on
    unknown: dict[str, str] = {}  # properties whose searches nobody could answer, and what was asked

    @property
    def done(self) -> bool:
        """Whether it ended well, a restart included."""
        return self.exit_code in DONE

    @property
    def refusal(self) -> str:
        """What the installer says where it does not go on; empty where it says nothing."""
        return next((line.partition(" -- ")[2] for line in self.log if " -- " in line), "")


def when_of(kind: int) -> str:
    """When a custom action runs, in words, from the high bits of its type."""
    if not kind & 0x400:
        return "immediately"
    phase = "on rollback" if kind & 0x100 else "on commit" if kind & 0x200 else "deferred"
    return f"{phase}, as {'the system account' if kind & 0x800 else 'the user'}"


def _failed(session: InstallSession, failure: ActionFailure) -> EngineOutcome:
    return EngineOutcome(
        failure.code,
        (),
        tuple(session.blind),
        tuple(session.log),
        None,
        (),
        None,
        session.features,
        tuple(session.steps),
        session.properties,
        wanting=tuple(session.wanting),
        unknown=session.unknown,
    )


def run(
    database: Database,
    surroundings: Surroundings,
    state: State,
    given: Mapping[str, str] | None = None,
    *,
    memories: Mapping[str, Memory] | None = None,
    package: str = r"C:\package\installer.msi",
    open_package: Callable[[Memory], Database | None] | None = None,
    depth: int = 0,
    remember: bool = True,
    contents: Mapping[str, bytes] | None = None,
    trial: bool = False,
    made: Iterable[str] = (),
) -> EngineOutcome:
    """Carries a database out on ``state``, which is changed only if the run succeeds, and not by a ``trial``.

    ``given`` are the properties of the command line; ``memories`` the products on the machine by
    upper-case code, ``contents`` the files of the installer by key, where they are at hand, for their
    hashes; ``made`` are folders, in lower case, that products have made which are gone: the installer
    remembers those for the whole machine. A run that fails leaves the state as it was, as rollback does.
    """
    memories = dict(memories or {})
    code = next((row.text("Value").upper() for row in database["Property"].where(Property="ProductCode")), "")
    work = state.copy()
    session = InstallSession(
        database,
        surroundings,
        work,
        given or {},
        installed=memories.pop(code, None),
        others=memories,
        package=package,
        nesting=depth,
        contents=contents,
    )
    session.created.update(made)
    session.open_package = open_package or session.open_package
    session.remove_other = lambda memory: remove_other(session, memory)
    try:
        _sequence(session)
    except ActionFailure as failure:
        session.note(f"Product: {session.prop('ProductName')} -- {failure.message}")
        session.note("Action ended: INSTALL. Return value 3.")
        return _failed(session, failure)
    session.note("Action ended: INSTALL. Return value 1.")
    if not trial:
        state.become(work)
    return _succeeded(session, remember=remember)


def _succeeded(session: InstallSession, *, remember: bool) -> EngineOutcome:
    put_off = session.prop("REBOOT").upper().startswith(("R", "S"))
    return EngineOutcome(
        0 if not session.restart else 3010 if put_off else 1641,
        _net(session.effects) if session.more_than_adds else tuple(session.effects),
        tuple(session.blind),
        tuple(session.log),
        _remember(session) if remember else None,
        tuple(session.removed_products),
        session.restart,
        session.features,
        tuple(session.steps),
        session.properties,
        session.components,
        unknown=session.unknown,
    )


def _net(effects: list[Effect]) -> tuple[Effect, ...]:
    """One effect a thing: what was put and then changed was put as it is in the end; what came and went
    did not happen.
    """
    net: dict[tuple[str, str], Effect] = {}
    for effect in effects:
        key = key_of(effect.thing)
        before = net.pop(key, None)
        if before is None or before.change == effect.change:
            net[key] = effect
        elif before.change == "add":
            if effect.change == "change":
                net[key] = msgspec.structs.replace(before, thing=effect.thing)
        elif before.change == "remove":
            if before.thing != effect.thing:
                net[key] = msgspec.structs.replace(effect, change="change")
        else:
            net[key] = effect
    return tuple(net.values())


def _rows(session: InstallSession) -> list[TableRow]:
    """The sequence's rows. Raises ActionFailure where the installer would not even begin with them."""
    database = session.database
    wide = database.summary.template is not None and session.platform == "x64"
    if wide and session.surroundings.architecture != "x64":
        raise ActionFailure(1633, "this package is for 64-bit systems")
    rows = [entry for entry in database["InstallExecuteSequence"] if entry.number("Sequence") > 0]
    if not rows:
        raise ActionFailure(1603, "the database has no InstallExecuteSequence")
    if len(rows) > MAX_ACTIONS:
        raise ActionFailure(1603, f"InstallExecuteSequence has {len(rows)} rows")
    return rows


def _sequence(session: InstallSession) -> None:
    database = session.database
    rows = _rows(session)
    for table, what in NOT_INTERPRETED.items():
        if len(database[table]):
            session.blind_spot(
                what, f"{len(database[table])} rows of {table} are not interpreted", Evidence("row", table)
            )
    for entry in sorted(rows, key=lambda entry: entry.number("Sequence")):
        name, condition = entry.text("Action"), entry.text("Condition")
        number, custom = entry.number("Sequence"), database["CustomAction"].find(name)
        kind = "standard" if name in STANDARD or name in WITHOUT_EFFECT else "custom" if custom else "unknown"
        when = when_of(custom.number("Type") & 0xFFFF) if custom and kind == "custom" else ""
        if not session.holds(condition, row("InstallExecuteSequence", name)):
            session.steps.append(SequenceStep(number, name, condition, False, kind, 0, when))
            continue
        session.note(f"Action start: {name}.")
        before = len(session.effects)
        try:
            _act(session, name)
        except ActionFailure:
            session.steps.append(SequenceStep(number, name, condition, True, kind, 0, when))
            session.note(f"Action ended: {name}. Return value 3.")
            raise
        session.steps.append(SequenceStep(number, name, condition, True, kind, len(session.effects) - before, when))
        session.note(f"Action ended: {name}. Return value 1.")
    if session.installed or session.removed_products:
        forget_rights(session)
    if not session.removing:  # rights are set when everything they are set on is there
        lock_permissions(session)
        lock_permissions_extended(session)
    if session.removing:
        _unregister(session)


def _act(session: InstallSession, name: str) -> None:
    if action := STANDARD.get(name):
        action(session)
    elif name == "PublishFeatures" or name in WITHOUT_EFFECT:
        return
    elif custom := session.database["CustomAction"].find(name):
        _custom(session, name, custom)
    else:
        session.blind_spot(
            f"action {name}", "neither a standard action nor a row of CustomAction", row("InstallExecuteSequence", name)
        )


def _custom(session: InstallSession, name: str, entry: TableRow) -> None:
    kind = entry.number("Type") & 0xFFFF
    base, where = kind & 0x3F, row("CustomAction", name)
    match base:
        case 51:
            session.put_property(entry.text("Source"), session.format(entry.text("Target")))
        case 35:
            session.set_directory(entry.text("Source"), session.format(entry.text("Target")))
        case 19:
            raise ActionFailure(
                1603, session.format(entry.text("Target")) or f"custom action {name} stops the installation"
            )
        case _:
            what = CUSTOM_KINDS.get(base, f"custom action of unknown type {base}")
            command = commands.command_of(session, name, entry)
            known = commands.known_of(session, command)
            if command:
                why = f"runs {when_of(kind)}: {command}" + (f" ({known})" if known else "")
                why += "; what it changes, only running it shows"
            else:
                why = f"runs {when_of(kind)}; what it does is known only by running it"
            session.blind_spot(f"custom action {name}: {what}", why, where)


def _unregister(session: InstallSession) -> None:
    """An uninstall always ends the registration, whatever the sequence lists."""
    STANDARD["PublishProduct"](session)


def _remember(session: InstallSession) -> Memory | None:
    if session.removing or not session.published:
        return None
    language = session.prop("ProductLanguage")
    here = [name for name, state in session.components.items() if state == LOCAL or name in session.kept]
    identifiers = {
        name: (code or "").upper() for name, code in session.database["Component"].pick("Component", "ComponentId")
    }
    return Memory(
        session.product_code,
        session.prop("ProductName"),
        session.prop("ProductVersion"),
        int(language) if language.isdigit() else 0,
        session.prop("UpgradeCode").upper(),
        session.per_machine,
        session.package,
        session.database.summary.revision or "",
        dict(session.directories),
        dict(session.features),
        {name: identifiers[name] for name in here},
        {name: session.key_path(name) for name in here},
        frozenset(session.created),
    )


def remove_other(session: InstallSession, memory: Memory) -> None:
    """Uninstalls an older product in the middle of an installation (a major upgrade)."""
    depth = session.nesting + 1
    database = session.open_package(memory)
    if database is None or depth > MAX_NESTING:
        session.blind_spot(
            f"removal of {memory.name} {memory.version}",
            "its package is not at hand, so what goes is not known",
            row("Upgrade", memory.upgrade_code),
        )
        session.drop("product", memory.code, row("Upgrade", memory.upgrade_code))
        session.removed_products.append(memory.code)
        return
    there = {memory.code: memory, **session.others}
    if session.published and (
        own := _remember(session)
    ):  # removed late: what both have in common is counted for the new one
        there[own.code] = own
    with database:
        outcome = run(
            database,
            session.surroundings,
            session.state,
            {"REMOVE": "ALL", "UPGRADINGPRODUCTCODE": session.product_code},
            memories=there,
            package=memory.package,
            open_package=session.open_package,
            depth=depth,
        )
    if not outcome.done:
        raise ActionFailure(1603, f"removing {memory.name} {memory.version} failed with {outcome.exit_code}")
    session.effects.extend(outcome.effects)
    session.more_than_adds = True
    session.others.pop(memory.code, None)
    session.removed_products.append(memory.code)
    session.created |= memory.created  # a folder that was not empty yet stays the installer's
    session.created -= {effect.thing.identity for effect in outcome.effects if effect.change == "remove"}


def predict(
    database: Database, surroundings: Surroundings, baseline: State, given: Mapping[str, str] | None = None
) -> EngineOutcome:
    """What installing on a fresh machine does. Raises Unreadable when the database cannot be carried out at all."""
    outcome = run(database, surroundings, baseline, given, remember=False)
    if not outcome.done and not outcome.log:
        raise Unreadable("the database cannot be carried out")
    return outcome
