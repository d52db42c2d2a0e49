"""What belongs to the program, what to the machine it was done on, and what to nobody."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from functools import cache
from importlib.resources import files

import msgspec

from yendo.capture.take import WorkDone
from yendo.effects.things import File, Folder, IniValue, Shortcut, UninstallEntry, key_of, parent
from yendo.machines.noise import Patterns
from yendo.platforms.windows import paths
from yendo.platforms.windows.capture_record import Bound, Capture, Caught, LeftEntry, WorkMachines, placing, value_of
from yendo.platforms.windows.surroundings import Surroundings

UNINSTALLER = re.compile(r"(?i)(unins\w*|uninst\w*|remove|setup)\.(exe|dat|msg|ini)$")
SHORTEST = 4  # letters of a name that are looked for in other texts


@cache
def _ours() -> tuple[LeftEntry, ...]:
    text = files("yendo.capture").joinpath("left.toml").read_text("utf-8")
    return tuple(msgspec.convert(tomllib.loads(text)["entry"], list[LeftEntry]))


def sorted_out(
    taken: WorkDone,
    second: WorkDone | None = None,
    *,
    setup: str = "",
    sha256: str = "",
    although: str = "",
    office: Sequence[LeftEntry] = (),
) -> Capture:
    """The capture of one machine, or of two that the same was done on. ``office`` are its own patterns of what is
    left.
    """
    now = datetime.now(UTC)
    patterns = Patterns([*office, *_ours()])
    removing = _removing(taken)
    caught = [_left(one, patterns, removing) for one in taken.caught]
    caught = list(_whole(caught))
    if second:
        caught = list(_twice(caught, taken, second))
    caught = list(_guessed(caught, taken.surroundings, now))  # two machines have one calendar
    caught = _without_hollow(caught)
    differed: tuple[str, ...] = ()
    if second:
        one, other = _known(taken.surroundings), _known(second.surroundings)
        differed = (*(what for what in one if one[what].lower() != other[what].lower()), "moment", "volume")
    return Capture(
        setup=setup,
        sha256=sha256,
        machines=WorkMachines(
            taken.machine,
            taken.surroundings.account,
            now.isoformat(timespec="seconds"),
            second.machine if second else "",
            differed,
        ),
        environment=taken.surroundings.environment,
        parts=taken.parts,
        caught=tuple(caught),
        there=taken.there,
        although=although,
    )


def wanted(office: Sequence[LeftEntry] = ()) -> Callable[[Caught], bool]:
    """Whether no list leaves a thing out: asked before contents are fetched."""
    patterns = Patterns([*office, *_ours()])
    return lambda caught: patterns.naming(caught.effect.thing) is None


def _left(one: Caught, patterns: Patterns[LeftEntry], removing: set[str]) -> Caught:
    """The same with the reason for which it is left out, if there is one."""
    entry = patterns.naming(one.effect.thing)
    why = entry.why if entry else _uninstallers(one, removing)
    return msgspec.structs.replace(one, left=why) if why else one


def _uninstallers(one: Caught, programs: set[str]) -> str:
    """The vendor's own uninstaller, which would leave what this package writes down behind: this package removes
    itself.
    """
    thing = one.effect.thing
    if not isinstance(thing, File | Shortcut) or one.effect.change == "remove":
        return ""
    if isinstance(thing, Shortcut):
        starts = (thing.target or "").lower()
        return "it starts the vendor's own uninstaller" if starts in programs else ""
    stem = thing.identity.rpartition(".")[0]
    if thing.identity in programs or any(
        stem == program.rpartition(".")[0] and UNINSTALLER.search(thing.identity) for program in programs
    ):
        return "the vendor's own uninstaller; this package removes itself"
    return ""


def _removing(taken: WorkDone) -> set[str]:
    """The programs that the list of programs starts to remove something, by their placed paths in small letters."""
    place = placing(taken.surroundings.environment)
    found = set()
    for one in taken.caught:
        if isinstance(one.effect.thing, UninstallEntry) and one.effect.thing.uninstall:
            match = re.match(r'\s*(?:"([^"]+)"|(.+?\.exe))', one.effect.thing.uninstall, re.I)
            if match and UNINSTALLER.search(match[1] or match[2]):
                found.add(place(match[1] or match[2]).lower())
    return found


def _whole(caught: Sequence[Caught]) -> Iterator[Caught]:
    """The entries of an ini file that comes as a whole are its contents; one that was there is not replaced, its
    entries are.
    """
    entries = {one.effect.thing.path.lower() for one in caught if isinstance(one.effect.thing, IniValue)}
    new = {
        one.effect.thing.identity for one in caught if isinstance(one.effect.thing, File) and one.effect.change == "add"
    }
    for one in caught:
        thing = one.effect.thing
        if isinstance(thing, IniValue) and thing.path.lower() in new and not one.left:
            yield msgspec.structs.replace(one, left="an entry of a file that comes as a whole")
        elif isinstance(thing, File) and one.effect.change == "change" and thing.identity in entries and not one.left:
            yield msgspec.structs.replace(one, left="it was there already: its entries are set one by one")
        else:
            yield one


def _without_hollow(caught: Sequence[Caught]) -> list[Caught]:
    """A folder in which nothing lies that comes is left as well; one that was made empty is the program's."""
    inside: dict[str, bool] = {}  # whether anything that comes lies in a folder, as far as anything lies there
    for one in caught:
        thing = one.effect.thing
        if isinstance(thing, File | Shortcut) and one.effect.change != "remove":
            comes, at = not one.left and not one.bound, parent(thing.path.lower())
            while paths.SEPARATOR in at:
                inside[at] = inside.get(at, False) or comes
                at = parent(at)
    return [
        msgspec.structs.replace(one, left="a folder in which nothing lies that comes")
        if isinstance(one.effect.thing, Folder) and not one.left and inside.get(one.effect.thing.identity) is False
        else one
        for one in caught
    ]


# --- one machine from another -----------------------------------------------------------------------------------


def _known(surroundings: Surroundings) -> dict[str, str]:
    """What is known to be a machine's own, by its words."""
    return {"computer's name": surroundings.computer, "person's name": surroundings.user}


_DAY = 86400.0
_NAMED = {"computer's name": "%COMPUTERNAME%"}  # what a variable of the system account names as well


def _twice(caught: Iterable[Caught], taken: WorkDone, second: WorkDone) -> Iterator[Caught]:
    """Told apart by the other machine: what is not there, or is there otherwise, is the machine's."""
    other = {(one.effect.change, *key_of(one.effect.thing)): one for one in second.caught}
    words = _swapped(taken.surroundings, second.surroundings)
    for one in caught:
        if one.left:
            yield one
            continue
        thing = one.effect.thing
        there = other.get((one.effect.change, *key_of(thing)))
        if there is None:
            yield msgspec.structs.replace(one, bound=Bound("it is not there on the second machine"))
        elif one.effect.change != "remove" and _differs(one, there):
            yield msgspec.structs.replace(one, bound=_bound(one, there, words))
        else:
            yield one


def _swapped(one: Surroundings, other: Surroundings) -> list[tuple[str, str, str]]:
    """What the machine's own is called: in words, on the one, and on the other."""
    left, right = _known(one), _known(other)
    return [(what, left[what], right[what]) for what in left if left[what].lower() != right[what].lower()]


def _differs(one: Caught, there: Caught) -> bool:
    mine, its = one.effect.thing, there.effect.thing
    if isinstance(mine, File) and isinstance(its, File):
        return mine.sha256 != its.sha256
    if isinstance(mine, UninstallEntry):
        return False  # it gets the way to remove this package anyway
    return value_of(mine) != value_of(its) if value_of(mine) is not None else mine != its


def _bound(one: Caught, there: Caught, words: Sequence[tuple[str, str, str]]) -> Bound:
    mine, its = value_of(one.effect.thing), value_of(there.effect.thing)
    if isinstance(mine, str) and isinstance(its, str):
        for what, here, other in words:
            template = re.sub(re.escape(here), lambda _: "\0", mine, flags=re.I)
            if template != mine and template.replace("\0", other).lower() == its.lower():
                named = _NAMED.get(what)
                data = template.replace("\0", named) if named else None
                return Bound(f"it holds the {what}", data=data)
    return Bound("it is another one on the second machine")


def _guessed(caught: Iterable[Caught], surroundings: Surroundings, now: datetime) -> Iterator[Caught]:
    """Told apart by rules, from one machine: names and moments that a value holds."""
    known = {what: name for what, name in _known(surroundings).items() if len(name) >= SHORTEST}
    for one in caught:
        text = value_of(one.effect.thing)
        if one.left or one.bound or text is None or isinstance(one.effect.thing, UninstallEntry):
            yield one
            continue
        guess = _named(str(text), known) or _moment(text, now)
        yield msgspec.structs.replace(one, bound=guess) if guess else one


def _named(text: str, known: Mapping[str, str]) -> Bound | None:
    for what, name in known.items():
        if re.search(rf"(?i)(?<![0-9a-z]){re.escape(name)}(?![0-9a-z])", text):
            named = _NAMED.get(what)
            data = re.sub(re.escape(name), named, text, flags=re.I) if named else None
            return Bound(f"it holds the {what}", guessed=True, data=data)
    return None


def _moment(data: object, now: datetime) -> Bound | None:
    """Whether a value is nothing but the day or the time at which the work was done, in one of the usual forms."""
    days = {now.strftime(form) for form in ("%Y%m%d", "%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y")}
    text = str(data).strip()
    if text in days or re.match(rf"(?:{'|'.join(map(re.escape, sorted(days)))})[ T_]\d", text):
        return Bound("it holds the day on which it was installed", guessed=True)
    if re.fullmatch(r"(?i)[012]?\d:[0-5]\d(:[0-5]\d([.,]\d+)?)?( ?[ap]m)?", text):
        return Bound("it holds a time of day", guessed=True)
    if re.fullmatch(r"\d{10}|\d{13}", text) and abs(int(text[:10]) - now.timestamp()) < _DAY:
        return Bound("it counts the seconds until it was installed", guessed=True)
    return None
