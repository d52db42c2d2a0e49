"""What the rules of a half for macOS catch, and which would catch more.

Each state is made on a simulated machine with the built package on it, and the detection script's own lines answer.

A state is made by changing the machine and is undone afterwards, so a big package is installed once.
"""

from __future__ import annotations

import contextlib
import plistlib
import random
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import NamedTuple

import msgspec

from yendo.detect.strength import Strength, StrengthRow
from yendo.effects.things import File, Folder, Link
from yendo.errors import NotCovered, Usage
from yendo.mac import bundles
from yendo.mac_half import build, detection, model, remade
from yendo.mac_half.machine import sandbox
from yendo.mac_half.machine.machine import RECEIPTS, MacMachine
from yendo.mac_half.model import AnyMacRule, MacPlan
from yendo.mac_half.shell import script
from yendo.mac_half.stage import MacStage
from yendo.mac_half.work import LaidBundle
from yendo.platforms.posix import PosixThing

SAMPLE = 12  # files of a kind that are changed, one by one
MAX_FILE_RULES = 8


class MacState(NamedTuple):
    """A state: its class, its name, whether the package counts as installed there, and what makes it for a while.

    ``touches`` is the one path, or job, that is another there; empty where it is more than one.
    """

    sort: str
    name: str
    wanted: bool
    made: Callable[[], AbstractContextManager[object]]
    touches: str = ""


class MacGround(msgspec.Struct, frozen=True):
    """``rules`` is what was asked, ``held`` what each of them said in each of the states; ``missing`` what could not be
    made here, and why.
    """

    rules: tuple[AnyMacRule, ...]
    states: tuple[tuple[str, str, bool], ...]
    held: tuple[tuple[bool, ...], ...]
    own: int  # so many of the rules are the plan's
    missing: tuple[str, ...] = ()

    def strength(self, chosen: Sequence[int] | None = None) -> Strength:
        """Of these rules, by their numbers, which must all hold; without numbers, of the plan's own."""
        chosen = range(self.own) if chosen is None else chosen
        holds = [bool(chosen) and all(row[at] for at in chosen) for row in self.held]
        rows = list(self._rows(holds))
        bad = [row for row in rows if not row.wanted]
        return Strength(
            len(chosen),
            len(chosen),
            sum(row.right / row.total for row in bad) / len(bad) if bad else 1.0,
            sum(row.right for row in bad),
            sum(row.total for row in bad),
            tuple(rows),
            tuple(name for row in rows if row.wanted for name in row.wrong),
        )

    def _rows(self, holds: Sequence[bool]) -> Iterator[StrengthRow]:
        """How the states of each class were judged."""
        for sort in dict.fromkeys(sort for sort, _, _ in self.states):
            for wanted in (False, True):
                some = [
                    (name, hold)
                    for (kind, name, want), hold in zip(self.states, holds, strict=True)
                    if kind == sort and want == wanted
                ]
                if some:
                    wrong = tuple(name for name, hold in some if hold != wanted)
                    yield StrengthRow(sort, len(some) - len(wrong), len(some), wrong, wanted)


class MacDerived(msgspec.Struct, frozen=True):
    """Rules that were chosen, each with how many more broken states it caught, and what they come to."""

    rules: tuple[tuple[AnyMacRule, int], ...]
    strength: Strength
    now: Strength
    states: int
    missing: tuple[str, ...] = ()


def measure(base: Path, plan: MacPlan, seed: int = 1) -> MacGround:
    """What the plan's own rules say in each state. Raises Usage, NotCovered, Unreadable."""
    return _asked(base, plan, seed, lambda ground: [])


def derive(base: Path, plan: MacPlan, *, most: int = 10, seed: int = 1) -> MacDerived:
    """The fewest rules that catch the most, of those that hold wherever the package counts as installed.

    Raises Usage, NotCovered, Unreadable.
    """
    found = _asked(base, plan, seed, _Ground.candidates)
    wanted = [at for at, (_, _, want) in enumerate(found.states) if want]
    broken = [at for at, (_, _, want) in enumerate(found.states) if not want]
    able = [one for one in range(found.own, len(found.rules)) if all(found.held[at][one] for at in wanted)]
    weight = {sort: sum(1 for at in broken if found.states[at][0] == sort) for sort, _, _ in found.states}
    left, chosen, adds = set(broken), list[int](), list[int]()

    def gain(one: int) -> float:
        return sum(1 / weight[found.states[at][0]] for at in left if not found.held[at][one])

    while len(chosen) < most and able:
        best = max(able, key=gain)
        caught = {at for at in left if not found.held[at][best]}
        if not caught:
            break
        chosen.append(best)
        adds.append(len(caught))
        left -= caught
    rules = tuple(zip((found.rules[one] for one in chosen), adds, strict=True))
    return MacDerived(rules, found.strength(chosen), found.strength(), len(found.states), found.missing)


def _asked(base: Path, plan: MacPlan, seed: int, more: Callable[[_Ground], Sequence[AnyMacRule]]) -> MacGround:
    if why := sandbox.lacking():
        raise NotCovered(f"rules of this half are measured by carrying them out, and that cannot be done here: {why}")
    folder = build.built(base, plan)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        ground = _Ground(MacStage(base, plan, folder, Path(place)), seed)
        rules = [*plan.detect, *more(ground)]
        states: list[tuple[str, str, bool]] = []
        held: list[tuple[bool, ...]] = []
        for state in ground.states():
            # who looks at nothing that is another says what it said of the whole installation, the first state
            asked = [at for at, rule in enumerate(rules) if not states or ground.sees(rule, state.touches)]
            told = list(held[0]) if held else [False] * len(rules)
            with state.made():
                for at, answer in zip(asked, ground.answers([rules[at] for at in asked]), strict=True):
                    told[at] = answer
            held.append(tuple(told))
            states.append((state.sort, state.name, state.wanted))
        return MacGround(tuple(rules), tuple(states), tuple(held), len(plan.detect), tuple(ground.missing))


class _Ground:
    """A machine with the package on it, what came with it, and the states that it is brought into."""

    def __init__(self, stage: MacStage, seed: int) -> None:
        self.stage, self.chance = stage, random.Random(seed)
        self.machine: MacMachine = stage.machine()
        self.missing: list[str] = []
        before = self.machine.picture()
        outcome = self.machine.install(stage.package, wanted=stage.done.wanted)
        if outcome.code:
            raise Usage(f"it does not install on a simulated machine: {outcome.why}; yendo prove says more")
        homes = tuple(f"{each['home']}/" for each in self.machine.state["people"].values())
        self.new: dict[str, PosixThing] = {
            path: thing
            for path, thing in self.machine.picture().items()
            if before.get(path) != thing and not path.startswith((*homes, "/Library/User Template/"))
        }
        self.bundles = self._bundles()
        self.jobs = [one for one in self.machine.state["jobs"] if one.startswith("system/")]

    # --- what came

    def _bundles(self) -> list[LaidBundle]:
        """Those that the plan lays for this processor, and those that a vendor's own package brought."""
        found = list(self.stage.done.bundles)
        for part in self.stage.done.parts:
            if part.processor in ("", self.machine.processor):
                found += part.bundles
        known = {one.path for one in found}
        for path in self.new:
            top = path.removesuffix("/Contents/Info.plist")
            inside = any(top.startswith(f"{one}/") for one in known)
            if top != path and top not in known and not inside:
                info = self.machine.listed(path)
                version = str(info.get("CFBundleShortVersionString") or "")
                found.append(LaidBundle(top, str(info.get("CFBundleIdentifier") or ""), version, version))
                known.add(top)
        return [one for one in found if one.identifier]

    def _outside(self) -> list[str]:
        """Files and links that are in no bundle, and no settings."""
        tops = tuple(f"{one.path}/" for one in self.bundles)
        return [
            path
            for path, thing in self.new.items()
            if not isinstance(thing, Folder) and not path.startswith((*tops, "/Library/Preferences/", f"/{RECEIPTS}/"))
        ]

    def _settings(self) -> Iterator[tuple[str, str, object]]:
        for step in self.stage.plan.install:
            if isinstance(step, model.SettingsStep) and step.whose == "machine":
                for key, value in step.values.items():
                    yield step.domain, key, value

    def candidates(self) -> list[AnyMacRule]:
        """Rules that may be worth having, the broad ones first."""
        folders = list(self._folder_rules())
        found: list[AnyMacRule] = [*self._bundle_rules(), *folders]
        found += [
            model.MacSettingRule(domain=domain, key=key, value=_as_read(value))
            for domain, key, value in self._settings()
            if isinstance(value, bool | int | float | str)
        ]
        found += [model.MacJobRule(label=one.removeprefix("system/")) for one in self.jobs]
        found += self._file_rules(tuple(one.path.rstrip("/") + "/" for one in folders))
        own = self.stage.plan.package
        if own.identifier in self.machine.receipts():
            found.append(model.ReceiptRule(identifier=own.identifier, version=own.receipt_version))
        return found

    def _bundle_rules(self) -> Iterator[AnyMacRule]:
        for one in self.bundles:
            app = bundles.read(self.machine.at(one.path))
            team = app.code[0].team if app.code and app.code[0].held == "holds" and app.code[0].apple else ""
            plain = model.BundleRule(identifier=one.identifier, path=one.path, version=one.version, team=team)
            if app.sealed == "whole":
                yield msgspec.structs.replace(plain, intact=True)
            yield plain

    def _folder_rules(self) -> Iterator[model.MacFolderRule]:
        laid = {item.path for item in self.stage.done.items if item.kind == "file"}
        for step in self.stage.plan.install:
            if isinstance(step, model.FilesStep):
                below = [path for path in laid if path.startswith(step.to.rstrip("/") + "/")]
                if len(below) > 1:
                    yield model.MacFolderRule(path=step.to)

    def _file_rules(self, folders: tuple[str, ...]) -> Iterator[AnyMacRule]:
        """Of files that no folder's rule looks at, programs first."""
        single = [path for path in self._outside() if not folders or not path.startswith(folders)]
        edited = {item.path for item in self.stage.done.items if detection.may_change(item)}
        for path in sorted(single, key=lambda path: (not self._is_program(path), path))[:MAX_FILE_RULES]:
            yield model.MacFileRule(path=path)
            if isinstance(there := self.new[path], File) and path not in edited:
                yield model.MacFileRule(path=path, sha256=there.sha256)

    def _is_program(self, path: str) -> bool:
        place = self.machine.at(path)
        return place.is_file() and not place.is_symlink() and bundles.is_program(place)

    # --- states

    def sees(self, rule: AnyMacRule, touched: str) -> bool:
        """Whether a rule may look at a path or job; where nothing single is named, it may."""
        if not touched:
            return True
        match rule:
            case model.BundleRule() | model.MacFolderRule():
                return touched.startswith(rule.path.rstrip("/") + "/")
            case model.MacFileRule():
                thing = self.new.get(rule.path)
                # what a link leads to may be touched
                return touched == rule.path or thing is None or isinstance(thing, Link)
            case model.MacSettingRule():
                return touched == f"/Library/Preferences/{rule.domain}.plist"
            case model.MacJobRule():
                return touched == f"system/{rule.label}"
            case model.ReceiptRule():
                return False

    def answers(self, rules: Sequence[AnyMacRule]) -> tuple[bool, ...]:
        """What each rule says now."""
        if not rules:
            return ()
        items = self.stage.done.items
        lines = ["volume=${1:-/}"]
        lines += [f"( {detection.line_of(rule, items)} ) && echo yes || echo no" for rule in rules]
        begun = len(self.machine.said)
        self.machine.script(script("each rule by itself", lines).encode(), self.machine.volume)
        said = [line for line in self.machine.said[begun:] if line in ("yes", "no")]
        if len(said) != len(rules):
            raise Usage(f"a rule could not be asked: {self.machine.said[begun:][-1:]}")
        return tuple(line == "yes" for line in said)

    def states(self) -> Iterator[MacState]:
        yield MacState("installed", "as it was installed", True, contextlib.nullcontext)
        yield MacState("installed", "nobody is logged on", True, lambda: self._state(person=""))
        yield MacState("installed", "the Finder wrote its notes into the folders", True, self._notes)
        for path in self._sample(item.path for item in self.stage.done.items if detection.may_change(item)):
            yield MacState("installed", f"somebody changed {path}", True, self._changed(path), path)
        for bundle in self.bundles:
            yield from self._of_bundle(bundle)
        yield from self._of_files()
        for domain, key, _ in self._settings():
            place = f"/Library/Preferences/{domain}.plist"
            yield MacState("setting", f"{key} of {domain} is gone", False, self._set(place, key, None), place)
            yield MacState("setting", f"{key} of {domain} is another", False, self._set(place, key, "another"), place)
        for job in self.jobs:
            name = job.removeprefix("system/")
            yield MacState("daemon", f"{name} is not loaded", False, self._unloaded(job), job)
        yield MacState("nothing", "only its receipts are left", False, lambda: self._gone(self._tops()))
        yield MacState("nothing", "it was never there", False, self._never)
        yield MacState("nothing", "it was removed", False, self._removed)  # the last: it is not taken back

    def _of_bundle(self, bundle: LaidBundle) -> Iterator[MacState]:
        name = bundle.path.rpartition("/")[2]
        info = f"{bundle.path}/Contents/Info.plist"
        code = bundles.read(self.machine.at(bundle.path)).code
        by_vendor = bool(code and code[0].held == "holds" and code[0].apple)
        unlike = remade.not_by_us(self.machine.at(bundle.path), self.machine.folder)
        parent = bundle.path.rpartition("/")[0]
        yield MacState(
            "moved", f"{name} was moved to another folder", True, self._moved(bundle, f"{parent}/Other/{name}")
        )
        if unlike:
            self.missing.append(f"{name} updated itself: such a one cannot be made here ({unlike})")
        elif bundle.version:
            newer = {"CFBundleShortVersionString": f"{bundle.version}.1"}
            yield MacState("updated", f"{name} updated itself", True, self._made_again(bundle, newer))
        bin_ = f"/Users/{next(iter(self.machine.state['people']))}/.Trash/{name}"
        yield MacState("gone", f"{name} lies in the bin", False, self._moved(bundle, bin_))
        yield MacState("gone", f"{name} is gone", False, lambda: self._gone([bundle.path]))
        if bundle.version:
            older = {"CFBundleShortVersionString": "0.1", "CFBundleVersion": "0.1"}
            yield MacState("older", f"an older {name}", False, self._made_again(bundle, older))
        other = {"CFBundleIdentifier": "example.somebody.else"}
        yield MacState("another", f"another program has the name {name}", False, self._made_again(bundle, other))
        if by_vendor:
            yield MacState("another", f"somebody else's {name}, signed by nobody", False, self._made_again(bundle, {}))
        program = str(self.machine.listed(info).get("CFBundleExecutable") or "")
        inside = [path for path in self.new if path.startswith(f"{bundle.path}/") and isinstance(self.new[path], File)]
        main = f"{bundle.path}/Contents/MacOS/{program}"
        if main in inside:
            yield MacState("program gone", f"the program of {name} is gone", False, self._lacking(main), main)
            yield MacState("program changed", f"the program of {name} is cut", False, self._changed(main), main)
        for path in self._sample(one for one in inside if one not in (main, info)):
            if "/_CodeSignature/" not in path and not path.endswith("/PkgInfo"):  # neither is in a seal
                yield MacState("bundle's file gone", f"{path} is gone", False, self._lacking(path), path)
                yield MacState("bundle's file changed", f"{path} is another", False, self._changed(path), path)

    def _of_files(self) -> Iterator[MacState]:
        edited = {item.path for item in self.stage.done.items if detection.may_change(item)}
        outside = self._outside()
        for path in self._sample(outside):
            yield MacState("file gone", f"{path} is gone", False, self._lacking(path), path)
        for path in self._sample(one for one in outside if one not in edited and isinstance(self.new[one], File)):
            yield MacState("file changed", f"{path} is another", False, self._changed(path), path)
        if len(outside) > 3:
            half = self.chance.sample(outside, len(outside) // 2)
            yield MacState("half", "half of its files are gone", False, lambda: self._gone(half))

    def _sample(self, paths: Iterator[str] | Sequence[str]) -> list[str]:
        known = sorted(paths)
        return sorted(self.chance.sample(known, min(SAMPLE, len(known))))

    def _tops(self) -> list[str]:
        return [one.path for one in self.bundles] + self._outside()

    # --- each makes a state, and takes it back

    @contextlib.contextmanager
    def _gone(self, paths: Sequence[str]) -> Iterator[None]:
        with tempfile.TemporaryDirectory(dir=self.machine.folder) as aside, contextlib.ExitStack() as back:
            for at, path in enumerate(paths):
                place, kept = self.machine.at(path), Path(aside) / str(at)
                place.rename(kept)
                back.callback(kept.rename, place)
            yield

    def _lacking(self, path: str) -> Callable[[], AbstractContextManager[object]]:
        return lambda: self._gone([path])

    def _changed(self, path: str) -> Callable[[], AbstractContextManager[object]]:
        @contextlib.contextmanager
        def made() -> Iterator[None]:
            place = self.machine.at(path)
            with self._gone([path]):
                place.write_bytes(b"another\n")
                place.chmod(getattr(self.new[path], "mode", None) or 0o644)
                yield
                place.unlink()

        return made

    def _moved(self, bundle: LaidBundle, to: str) -> Callable[[], AbstractContextManager[object]]:
        @contextlib.contextmanager
        def made() -> Iterator[None]:
            here, there = self.machine.at(bundle.path), self.machine.at(to)
            fresh = not there.parent.exists()
            there.parent.mkdir(parents=True, exist_ok=True)
            here.rename(there)
            yield
            there.rename(here)
            if fresh:
                there.parent.rmdir()

        return made

    def _made_again(
        self, bundle: LaidBundle, values: Mapping[str, str]
    ) -> Callable[[], AbstractContextManager[object]]:
        return lambda: remade.instead(self.machine.at(bundle.path), self.machine.folder, values)

    def _set(self, path: str, key: str, value: str | None) -> Callable[[], AbstractContextManager[object]]:
        @contextlib.contextmanager
        def made() -> Iterator[None]:
            place = self.machine.at(path)
            was = place.read_bytes()
            values = {**plistlib.loads(was), key: value}
            place.write_bytes(plistlib.dumps({name: one for name, one in values.items() if one is not None}))
            yield
            place.write_bytes(was)

        return made

    def _unloaded(self, job: str) -> Callable[[], AbstractContextManager[object]]:
        @contextlib.contextmanager
        def made() -> Iterator[None]:
            jobs = self.machine.state["jobs"]
            self.machine.change(jobs={name: one for name, one in jobs.items() if name != job})
            yield
            self.machine.change(jobs=jobs)

        return made

    @contextlib.contextmanager
    def _state(self, **values: str) -> Iterator[None]:
        was = {name: self.machine.state[name] for name in values}
        self.machine.change(**values)
        yield
        self.machine.change(**was)

    @contextlib.contextmanager
    def _notes(self) -> Iterator[None]:
        folders = {path.rpartition("/")[0] for path in self._tops()}
        places = [self.machine.at(f"{folder}/.DS_Store") for folder in folders]
        made = [place for place in places if place.parent.is_dir() and not place.exists()]
        for place in made:
            place.write_bytes(bytes(8))
        yield
        for place in made:
            place.unlink()

    @contextlib.contextmanager
    def _never(self) -> Iterator[None]:
        installed, self.machine = self.machine, self.stage.machine()
        yield
        self.machine = installed

    @contextlib.contextmanager
    def _removed(self) -> Iterator[None]:
        outcome = self.machine.install(self.stage.removal)
        if outcome.code:
            self.missing.append(f"it was removed: the removal fails ({outcome.why})")
        yield


def _as_read(value: object) -> str:
    """A value as ``defaults read`` tells it."""
    if isinstance(value, bool):
        return "1" if value else "0"
    return str(value)
