"""The work on the machine: a list of command lines in parts, watched, with restarts in between, and what it changed."""

from __future__ import annotations

import contextlib
import shutil
import tempfile
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from pathlib import Path

import msgspec

from yendo.capture.again import MADE_AGAIN, made_again
from yendo.effects import Effect, File, State, difference
from yendo.effects.things import key_of, label
from yendo.errors import NotCovered, Unreadable, YendoError
from yendo.installers import recognise
from yendo.machines.watching import Watched, WatchedMachine, WatchedSession
from yendo.platforms.windows import paths
from yendo.platforms.windows.capture_record import Caught, WorkPart, WorkRun, content_name, everybodys, placed, placing
from yendo.platforms.windows.exit_codes import DONE, RESTARTS
from yendo.platforms.windows.surroundings import Account, Surroundings, expand
from yendo.prove.stage import Progress
from yendo.prove.verdicts import FOLDER, fleeting, pending
from yendo.prove.verdicts import placed as on_machine

TIMEOUT = 1800.0
INSTALL = "install"


class WorkLine(msgspec.Struct, frozen=True):
    """A command line of the work, and the part that it belongs to. ``{setup}`` is the vendor's file on the machine,
    ``{folder}`` the folder that it lies in. ``hand``: a person does the rest at its windows.
    """

    part: str
    command: str
    hand: bool = False


class WorkFailed(YendoError):
    """A command of the work did not end well; nothing is kept. ``picture`` is the PNG of what it showed."""

    def __init__(self, message: str, picture: bytes | None = None) -> None:
        super().__init__(message)
        self.picture = picture


class WorkDone(msgspec.Struct, frozen=True):
    """What the work changed on one machine, its paths named by their places, before anything is sorted out."""

    surroundings: Surroundings
    machine: str
    parts: tuple[WorkPart, ...]
    caught: tuple[Caught, ...]
    there: tuple[str, ...]


def brings(setup: Path) -> tuple[Effect, ...]:
    """What a setup is read to do, and the line that it would have in the list of programs; raises nothing where it
    cannot be read.
    """
    try:
        account = recognise.read(setup)
    except (Unreadable, NotCovered):
        return ()
    return account.effects


def there_already(state: State, brought: Iterable[Effect]) -> list[Effect]:
    """What of the effects that a setup is read to have lies on the machine before it begins, folders and what every
    machine has aside.
    """
    return [
        effect
        for effect in brought
        if effect.change == "add" and effect.kind not in ("folder", "registry-key") and state.has(effect.thing)
    ]


@contextlib.contextmanager
def _visit(
    machine: WatchedMachine, account: Account, brought: Sequence[Path], lying: bool
) -> Iterator[tuple[WatchedSession, State]]:
    """A fresh machine with the vendor's files in one folder, and its state with them."""
    with tempfile.TemporaryDirectory(prefix="yendo-capture-") as place, machine.fresh(account) as session:
        for path in () if lying else brought:
            shutil.copyfile(path, Path(place) / path.name)
        session.bring(Path(place), FOLDER, counts=True)
        before = machine.baseline(account)
        before.add_folders(FOLDER)
        for path in brought:  # what else is put beside them is part of the work
            before.add(File(paths.join(FOLDER, path.name)))
        yield session, before


def _caught(effects: Iterable[Effect], done: _Carried, first: State, last: str) -> Iterator[Caught]:
    """Each effect with the part that it belongs to, and what was there before."""
    old = first.items()
    for effect in effects:
        key = key_of(effect.thing)
        yield Caught(effect, done.belongs.get(key, last), old.get(key) if effect.change == "change" else None)


def _all_placed(found: Iterable[Caught], place: Callable[[str], str]) -> list[Caught]:
    """The things that were caught, with the folders by their names."""
    return [
        msgspec.structs.replace(one, effect=msgspec.structs.replace(one.effect, thing=placed(one.effect.thing, place)))
        for one in found
    ]


def _marked(found: Iterable[Caught], again: Container[tuple[str, str]]) -> list[Caught]:
    """The same, with those left out that the programs make again by themselves."""
    return [
        msgspec.structs.replace(one, left=MADE_AGAIN) if key_of(one.effect.thing) in again else one for one in found
    ]


def work(
    machine: WatchedMachine,
    jobs: Sequence[WorkLine],
    *,
    brought: Sequence[Path] = (),
    lying: bool = False,
    account: Account = "user",
    timeout: float = TIMEOUT,
    predicted: Sequence[Effect] = (),
    although: str = "",
    contents: Path | None = None,
    wanted: Callable[[Caught], bool] = lambda caught: True,
    start_again: bool = False,
    progress: Progress = lambda text: None,
) -> WorkDone:
    """Does the work on a fresh machine. ``lying``: what is brought lies there already. ``contents`` is the workspace
    that the files' contents go into, for what is ``wanted``. ``start_again``: what the programs make again by
    themselves is found in the end, and marked as left.

    Raises WorkFailed, NoMachine, Usage, and AlreadyThere where the machine is not clean and nobody says ``although``.
    """
    with _visit(machine, account, brought, lying) as (session, first):
        place = _placing(session.surroundings)
        there = there_already(first, predicted)
        if there and not although:
            raise AlreadyThere(tuple(label(effect.thing) for effect in there), machine.label)
        done = _carried(session, jobs, brought, timeout, first, progress)
        progress("keeping what was changed")
        effects = difference(first, done.state)
        changed = {key_of(effect.thing) for effect in effects}
        again = [one for one in done.again if key_of(one.effect.thing) not in changed]
        lasting = [one for one in effects if not fleeting(one, session) and not _handed(one, brought)]
        found = [*_caught(lasting, done, first, jobs[-1].part), *again]
        whole = {key_of(placed(one.effect.thing, place)): one.effect.thing for one in found}
        found = _all_placed(found, place)
        if not any(one.effect.kind not in ("folder", "registry-key") for one in found):
            raise WorkFailed("the work ended well and changed nothing that lasts; does it need another switch?")
        if contents is not None:
            found = list(_kept(session, found, contents, wanted))
        if start_again:
            found = _marked(found, made_again(session, found, whole, progress))
        changed |= {key_of(one.effect.thing) for one in again}
        return WorkDone(
            session.surroundings,
            machine.label,
            tuple(WorkPart(name, tuple(ran)) for name, ran in done.parts.items()),
            tuple(found),
            tuple(label(effect.thing) for effect in there if key_of(effect.thing) not in changed),
        )


class _Carried(msgspec.Struct):
    """What the jobs were on the way: their runs by part, the part that a thing was changed in last, the machine after
    them, and the files that they wrote again as they were.
    """

    state: State
    parts: dict[str, list[WorkRun]] = {}
    belongs: dict[tuple[str, str], str] = {}
    again: list[Caught] = []


def _carried(
    session: WatchedSession,
    jobs: Sequence[WorkLine],
    brought: Sequence[Path],
    timeout: float,
    first: State,
    progress: Progress,
) -> _Carried:
    """Carries the jobs out, one after the other. Raises WorkFailed."""
    done = _Carried(first)
    written = session.rewritten() or frozenset()
    for job in jobs:
        progress(f"{job.part}: {job.command}")
        ran, after = _ran(session, job, brought, timeout, done.state)
        done.parts.setdefault(job.part, []).append(ran)
        done.belongs.update({key_of(effect.thing): job.part for effect in difference(done.state, after)})
        done.state = after
        new = (session.rewritten() or frozenset()) - written
        done.again += _written_again(sorted(new), first, job.part)
        written |= new
    return done


def _written_again(paths: Sequence[str], first: State, part: str) -> Iterator[Caught]:
    """Files of the program that lay there before and were written again: their contents are part of the work, also
    where they did not change. What the system has written to its own is none.
    """
    for path in paths:
        thing = first.get("file", path.lower())
        if isinstance(thing, File):
            yield Caught(Effect("add", thing, "observed"), part, again=True)


class AlreadyThere(YendoError):
    """The machine is not clean: what the setup brings is there. ``things`` in words."""

    def __init__(self, things: tuple[str, ...], machine: str) -> None:
        some = "; ".join(things[:5]) + (f"; and {len(things) - 5} more" if len(things) > 5 else "")
        super().__init__(
            f"{machine} is not clean: {len(things)} of the things that the setup brings are there already, and would "
            f"be missing from the difference: {some}. Take them away first, or say why not with --although"
        )
        self.things = things


def _placing(surroundings: Surroundings) -> Callable[[str], str]:
    """How paths are named; where everybody's menu and desktop lie in the person's profile, they are everybody's."""
    place = placing(surroundings.environment)
    if not surroundings.per_user_menu:
        return place
    return lambda text: everybodys(place(text))


def _handed(effect: Effect, brought: Sequence[Path]) -> bool:
    """The vendor's files are ours to put there and to take away."""
    return effect.thing.identity in {paths.join(FOLDER, path.name).lower() for path in brought}


def command_of(job: WorkLine, brought: Sequence[Path]) -> str:
    """The command line of a job on the machine, where the vendor's files lie in one folder."""
    command = job.command.replace("{folder}", FOLDER)
    for path in brought:
        command = on_machine(command.replace("{setup}", f'"{path.name}"'), path.name)
    return command


def _ran(
    session: WatchedSession, job: WorkLine, brought: Sequence[Path], timeout: float, before: State
) -> tuple[WorkRun, State]:
    """How a command ended, and the machine after it. Raises WorkFailed."""
    command = command_of(job, brought)
    watched = session.watch(command, timeout=timeout, folder=FOLDER if brought else None, hand=job.hand)
    if why := _failure(watched):
        shown = [window for window in watched.windows if window.counts]
        picture = next((window.picture for window in reversed(shown) if window.picture), None)
        raise WorkFailed(f"{job.part}: {command} {why}", picture)
    code = watched.exit_code or 0
    after = session.state()
    restarts = code in RESTARTS or pending(difference(before, after), session)
    if restarts:
        session.restart()
        after = session.state()
    still = tuple(
        dict.fromkeys(process.name for process in watched.processes if process.ended is None and process.name)
    )
    titles = tuple(dict.fromkeys(window.title or window.program for window in watched.windows if window.counts))
    return WorkRun(job.command, code, round(watched.seconds, 2), restarts, titles, still), after


def _failure(watched: Watched) -> str:
    """Why the work cannot go on, in words that follow the command; empty where it can."""
    shown = [window.title or window.program for window in watched.windows if window.counts]
    if watched.error:
        return f"could not be started: system error {watched.error}"
    if watched.stopped == "waits":
        return f"waits for a person, at the window {shown[-1]!r}" if shown else "waits for a person"
    if watched.stopped:
        return f"did not end within its limit of {'disk' if watched.stopped == 'disk' else 'time'}"
    if watched.exit_code not in DONE:
        return f"ended with exit code {watched.exit_code}"
    return ""


def _kept(
    session: WatchedSession, caught: Sequence[Caught], workspace: Path, wanted: Callable[[Caught], bool]
) -> Iterator[Caught]:
    """The same with the contents of files fetched, and their hashes."""
    environment = session.surroundings.environment
    for one in caught:
        thing = one.effect.thing
        if one.effect.change == "remove" or not isinstance(thing, File) or not wanted(one):
            yield one
            continue
        name = content_name(thing.path)
        target = workspace / name
        target.parent.mkdir(parents=True, exist_ok=True)
        if not session.fetch(expand(thing.path, environment), target):
            raise YendoError(f"{thing.path} was gone again before it could be kept; is a program still at work?")
        yield msgspec.structs.replace(one, content=name)
