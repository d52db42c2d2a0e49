"""What was done on a Mac by hand or by an installer that cannot be carried over, as the half of a package for macOS.

The Mac is looked at before and after; what came is brought here and becomes steps, what cannot become one is told.
"""

from __future__ import annotations

import contextlib
import re
import shlex
import tarfile
import tempfile
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Any, Literal

import msgspec
import tomlkit

from yendo import atomic
from yendo.draft import writing
from yendo.effects.things import File, Folder, Link
from yendo.errors import NoMachine, Usage
from yendo.formats import property_list
from yendo.mac import bundles
from yendo.mac_half import build, reading
from yendo.mac_half.away import MacAway
from yendo.mac_half.draft import MacDraft, MacDrafted
from yendo.mac_half.model import check_removed
from yendo.mac_half.stage import MacStage
from yendo.platforms.posix import PosixThing, changes

MAX_BROUGHT, MAX_LIST = 16 << 30, 16 << 20
_PREFERENCES = re.compile(
    r"(?P<home>/Users/[^/]+|/Library/User Template/[^/]+)?/Library/Preferences/(?P<domain>[^/]+)\.plist"
)
_JOBS = re.compile(r"/Library/Launch(?P<sort>Daemons|Agents)/[^/]+\.plist")
# What a step of launchd says; a list with more is carried as the file it is.
_OF_JOB = {"Label", "ProgramArguments", "Program", "RunAtLoad", "KeepAlive", "StartInterval"}
MacChange = Literal["new", "changed", "gone"]


class MacDoing(msgspec.Struct, frozen=True):
    """A line of the work. ``hand``: a person does the rest there."""

    line: str
    hand: bool = False


class MacCaptured(msgspec.Struct, frozen=True):
    """``changes`` is all that was seen: what became of each path. ``receipts`` are new ones."""

    drafted: MacDrafted
    changes: tuple[tuple[MacChange, str], ...]
    receipts: tuple[str, ...]


def capture(
    folder: Path, machine: MacAway, work: Sequence[MacDoing], setup: Path | None, wait: Callable[[str], object]
) -> MacCaptured:
    """Does the work there, and starts a workspace of what came of it. ``wait`` returns when a person is done.

    Raises Usage, NoMachine, Unreadable.
    """
    if reading.is_here(folder):
        raise Usage(f"{folder / reading.NAME} is there already: edit it, or move it away")
    there = machine.bring(setup) if setup else ""
    had, before = set(machine.receipts()), machine.picture()
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        lists = _lists(machine, before, Path(place))
    _do(machine, work, there, wait)
    after = machine.picture()
    changes = tuple(_changes(before, after))
    new = [name for name in machine.receipts() if name not in had]
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        draft = _Sorted(folder, machine, Path(place), changes, after, lists)
        for name in new:
            what = f"the vendor's own package {name} was installed; carry that one where it is at hand"
            draft.decisions.append(f"receipt: {what}")
        return MacCaptured(draft.finish(), changes, tuple(new))


class FirstStart(msgspec.Struct, frozen=True):
    """``made`` is what the program made by itself and what goes with the package now; ``of_people`` are domains of
    people's settings that came, ``other`` what else changed.
    """

    made: tuple[str, ...]
    of_people: tuple[str, ...]
    other: tuple[tuple[MacChange, str], ...]


def first_start(folder: Path, machine: MacAway, work: Sequence[MacDoing], wait: Callable[[str], object]) -> FirstStart:
    """Installs the built package there, has its program started, and puts down what that made: the removal takes it.

    Raises Usage, NoMachine, Unreadable.
    """
    plan, _ = reading.read(folder)
    built = build.built(folder, plan)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        stage = MacStage(folder, plan, built, Path(place))
        outcome = machine.install(stage.package, wanted=stage.done.wanted)
    if outcome.code:
        raise Usage(f"{stage.package.name} does not install there: {outcome.why}")
    before = machine.picture()
    _do(machine, work, "", wait)
    changes = list(_changes(before, machine.picture()))
    new = {path for change, path in changes if change == "new"}
    homes = tuple(f"{one['home']}/" for one in machine.people.values())
    tops = [path for path in sorted(new) if path.rpartition("/")[0] not in new]
    made = [path for path in tops if not path.startswith(homes) and _removable(path)]
    domains = [found["domain"] for path in new if path.startswith(homes) and (found := _PREFERENCES.fullmatch(path))]
    if made:
        _put_down(folder, sorted({*plan.made_later, *made}))
    gone = tuple(f"{path}/" for path in made)
    other = [one for one in changes if one[1] not in made and not one[1].startswith(gone)]
    return FirstStart(tuple(made), tuple(sorted(set(domains))), tuple(other))


def _put_down(folder: Path, made_later: Sequence[str]) -> None:
    path = folder / reading.NAME
    document = tomlkit.parse(path.read_text("utf-8"))
    document.pop("made_later", None)
    head = "made_later = [" + ", ".join(tomlkit.item(one).as_string() for one in made_later) + "]\n"
    text = writing.spaced(tomlkit.dumps(document))
    atomic.write(path, (head + text).encode())  # before all tables, as the form wants it
    reading.read(folder)


def _removable(path: str) -> bool:
    try:
        check_removed(path)
    except ValueError:
        return False
    return True


def _do(machine: MacAway, work: Sequence[MacDoing], setup: str, wait: Callable[[str], object]) -> None:
    for one in work:
        line = one.line.replace("{setup}", shlex.quote(setup))
        code, said = machine.run("/bin/sh", "-c", line)
        if one.hand:
            wait(line)
        elif code:
            last = (said.decode("utf-8", "replace").strip().splitlines() or [""])[-1]
            raise Usage(f"{line!r} ends with {code} there: {last[:300]}")


def _changes(before: Mapping[str, PosixThing], after: Mapping[str, PosixThing]) -> Iterator[tuple[MacChange, str]]:
    words: dict[str, MacChange] = {"add": "new", "remove": "gone", "change": "changed"}
    for path, change in changes(before, after).items():
        yield words[change], path


def _lists(machine: MacAway, seen: Mapping[str, PosixThing], place: Path) -> dict[str, dict[str, Any]]:
    """The settings that are there, by their files."""
    paths = [path for path, one in seen.items() if isinstance(one, File) and _PREFERENCES.fullmatch(path)]
    return {path: property_list.if_any(data) for path, data in _contents(machine, paths, place)}


def _contents(machine: MacAway, paths: Sequence[str], place: Path) -> Iterator[tuple[str, bytes]]:
    """Contents of small files there, all in one go."""
    if not paths:
        return
    with _archive(machine, "/", [path.lstrip("/") for path in paths], place) as archive:
        for one in archive:
            if one.isreg() and one.size <= MAX_LIST and (file := archive.extractfile(one)):
                yield one.name.removeprefix("."), file.read()


@contextlib.contextmanager
def _archive(machine: MacAway, above: str, names: Sequence[str], place: Path) -> Iterator[tarfile.TarFile]:
    packed = place / f"{uuid.uuid4().hex}.tar"  # one may be open while another is fetched
    machine.fetch(above, names, packed)
    try:
        with tarfile.open(packed) as archive:
            yield archive
    except tarfile.TarError as error:
        raise NoMachine(f"ssh:{machine.name}: what was fetched is no archive: {error}") from error
    finally:
        packed.unlink(missing_ok=True)


class _Sorted(MacDraft):
    """What came, sorted into steps."""

    def __init__(
        self,
        folder: Path,
        machine: MacAway,
        place: Path,
        changes: Sequence[tuple[MacChange, str]],
        after: Mapping[str, PosixThing],
        lists: Mapping[str, Mapping[str, Any]],
    ) -> None:
        super().__init__(folder)
        self.machine, self.place, self.after, self.lists = machine, place, after, lists
        self._new([path for change, path in changes if change == "new"])
        self._others(changes)

    def _new(self, came: Sequence[str]) -> None:
        """Steps for what came."""
        self.tops = tuple(f"{top}/" for top in self._bundles(came))
        rest = [path for path in came if not f"{path}/".startswith(self.tops)]
        settings = [path for path in rest if _PREFERENCES.fullmatch(path)]
        self._settings(settings)
        rest = [path for path in rest if path not in settings and not _only_above(path, rest, settings)]
        self._jobs([path for path in rest if _JOBS.fullmatch(path)])
        self._files([path for path in rest if not _JOBS.fullmatch(path)])

    def _others(self, changes: Sequence[tuple[MacChange, str]]) -> None:
        """What changed or went away: settings key by key, of the rest a person decides."""
        changed = [path for change, path in changes if change == "changed" and isinstance(self.after[path], File)]
        self._settings([path for path in changed if _PREFERENCES.fullmatch(path)])
        for path in changed:
            if not _PREFERENCES.fullmatch(path):
                self.decisions.append(f"changed: {path} was there before, and is another now; it is not carried")
        for change, path in changes:
            if change == "gone" and not path.startswith(self.tops):
                self.decisions.append(f"gone: {path} went away; a step of kind remove does that")

    def _fetch(self, path: str, name: str) -> Path:
        """A file or folder from there, below a folder of ours."""
        inside = [one for below, one in self.after.items() if below.startswith(f"{path}/") or below == path]
        size = sum(one.size or 0 for one in inside if isinstance(one, File))
        if size > MAX_BROUGHT:
            raise Usage(f"{path} has {size >> 30} GB; more than {MAX_BROUGHT >> 30} are not brought here")
        target = self.place / name
        target.mkdir()
        above, _, last = path.rpartition("/")
        with _archive(self.machine, above or "/", [last], self.place) as archive:
            archive.extractall(target, filter="data")
        return target / last

    def _bundles(self, came: Sequence[str]) -> list[str]:
        """New bundles become steps of their own."""
        tops: list[str] = []
        for path in came:
            top = path.removesuffix("/Contents/Info.plist")
            if top != path and top.endswith(".app") and not top.startswith(tuple(f"{one}/" for one in tops)):
                tops.append(top)
        for number, top in enumerate(tops):
            got = self._fetch(top, f"bundle{number}")
            name = PurePosixPath(top).name
            self.media[name] = (got, "a bundle, as it lay there")
            values = {"kind": "app", "source": name}
            if (to := top.rpartition("/")[0]) != "/Applications":
                values["to"] = to
            self._app(bundles.read(got), name, values)
        return tops

    def _settings(self, paths: Sequence[str]) -> None:
        """Keys that came or changed, by whose they are."""
        for path, data in _contents(self.machine, paths, self.place):
            was, now = self.lists.get(path, {}), property_list.if_any(data)
            found = _PREFERENCES.fullmatch(path)
            assert found is not None
            values = {key: value for key, value in now.items() if was.get(key) != value}
            plain = {key: value for key, value in values.items() if _plain(value)}
            for key in values.keys() - plain.keys():
                self.decisions.append(f"setting: {key} of {found['domain']} is of a kind that no step has")
            for key in was.keys() - now.keys():
                self.decisions.append(f"setting: {key} of {found['domain']} went away")
            done = [one for one, _ in self.steps if one.get("domain") == found["domain"] and "whose" in one]
            if found["home"] and done:
                done[0]["values"] |= plain  # another person's, or the template's for those to come
            elif plain:
                step: dict[str, Any] = {"kind": "settings", "domain": found["domain"], "values": plain}
                remark = "DECIDE: which of these belong to everybody"
                if found["home"]:
                    step["whose"] = "persons"
                    if found["home"].startswith("/Users/"):
                        remark += f"; they are {found['home'].rpartition('/')[2]}'s"
                self.steps.append((step, {"domain": remark}))
                self.decisions.append(f"settings: which of those of {found['domain']} belong to everybody?")

    def _jobs(self, paths: Sequence[str]) -> None:
        for path, data in _contents(self.machine, paths, self.place):
            found, listed = _JOBS.fullmatch(path), property_list.if_any(data)
            program = listed.get("ProgramArguments") or ([listed["Program"]] if listed.get("Program") else [])
            simple = program and not set(listed) - _OF_JOB and isinstance(listed.get("KeepAlive", False), bool)
            if found is None or not simple:
                self._files([path])
                what = "says more than a step can; it is carried as a file, and a script has to load it"
                self.decisions.append(f"launchd: {path} {what}")
                continue
            words = [str(one) for one in program]
            step: dict[str, Any] = {"kind": "launchd", "label": listed["Label"], "program": words}
            if found["sort"] == "Agents":
                step["agent"] = True
            if not listed.get("RunAtLoad", False):
                step["at_load"] = False
            if listed.get("KeepAlive"):
                step["keep_alive"] = True
            if interval := listed.get("StartInterval"):
                step["interval"] = f"{int(interval)} s"
            self.steps.append((step, {"label": path}))

    def _files(self, paths: Sequence[str]) -> None:
        """Every new folder at its top, and files in folders that were there before."""
        new = set(paths)
        tops = [path for path in paths if path.rpartition("/")[0] not in new]
        for path in tops:
            if path.startswith("/Users/"):
                self.decisions.append(f"person: {path} came into a person's folder; it is not carried")
                continue
            thing = self.after[path]
            if isinstance(thing, Link):
                self.steps.append(({"kind": "link", "path": path, "target": thing.target}, {}))
                continue
            if isinstance(thing, Folder) and not any(
                below.startswith(f"{path}/") and not isinstance(self.after[below], Folder) for below in new
            ):
                self.decisions.append(f"folder: {path} is empty; a program makes it by itself, or a script has to")
                continue
            got = self._fetch(path, f"captured{len(self.media)}")
            name = got.name if got.name not in self.media else f"{len(self.media)}-{got.name}"
            self.media[name] = (got, "as it lay there")
            step: dict[str, Any] = {"kind": "copy", "source": name, "to": path}
            inside = sorted(below for below in new if below == path or below.startswith(f"{path}/"))
            owners = {(self.after[below].user, self.after[below].group) for below in inside}
            if owners != {(0, 0)}:
                step |= {"owner": thing.user, "group": thing.group}
            self.steps.append((step, {}))
            if not self.rules:
                first = next((below for below in inside if isinstance(self.after[below], File)), "")
                if first:
                    self.rules.append(({"kind": "file", "path": first}, "the first of its files"))


def _only_above(path: str, came: Sequence[str], settings: Sequence[str]) -> bool:
    """Whether a new folder holds settings, and nothing else that is new but folders of the same kind."""
    below = [one for one in came if one.startswith(f"{path}/")]
    held = [one for one in settings if one.startswith(f"{path}/")]
    return bool(held) and all(one in held or any(two.startswith(f"{one}/") for two in held) for one in below)


def _plain(value: object) -> bool:
    if isinstance(value, list):
        return all(isinstance(one, str) for one in value)
    if isinstance(value, dict):
        return all(isinstance(one, str | int | bool) for one in value.values())
    return isinstance(value, bool | int | float | str)
