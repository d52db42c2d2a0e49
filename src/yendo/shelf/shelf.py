"""All workspaces below a folder: what each is, how far it is and why not further, and the conflicts between them.

A listing reads plans, manifests and records once; the next one asks only what has changed since, by sizes and times.
"""

from __future__ import annotations

import hashlib
import os
import tomllib
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec

from yendo import atomic
from yendo.errors import YendoError
from yendo.facts.versions import VersionRange
from yendo.shelf import record as form
from yendo.shelf.record import Claim, Claims, stale

SCHEMA = "yendo.shelf/1"
STATES = ("unreadable", "drafted", "checked", "built", "proved")
MAX_DEPTH, MAX_SHOWN = 12, 5
_PASSED = {"package", "forms", "media", "extras", "earlier", "trial", ".git", ".yendo", "node_modules", "__pycache__"}
MAC, MAC_HALF = "macos.toml", " (macOS)"
_FORM = "6"  # of what is kept between two listings


class ShelfRow(msgspec.Struct, frozen=True):
    """One workspace. ``state`` is one of STATES; ``why`` says what is wrong or missing before the next; ``digest`` that
    of the bytes that were built, ``proofs`` the scenarios that passed on them; ``system`` what it is for."""

    path: str
    id: str
    name: str
    version: str
    revision: int
    publisher: str
    state: str
    why: str
    stale: bool
    digest: str
    proofs: tuple[str, ...]
    failed: tuple[str, ...]
    system: str = "windows"


class ShelfConflict(msgspec.Struct, frozen=True):
    """Two packages that want the same for themselves.

    ``what`` is file, registry, service, prerequisite, ...; ``things`` some of them.
    """

    one: str
    other: str
    what: str
    count: int
    things: tuple[str, ...]
    text: str


class Shelf(msgspec.Struct, frozen=True):
    """A listing; paths are below ``folder``."""

    folder: str
    rows: tuple[ShelfRow, ...]
    conflicts: tuple[ShelfConflict, ...]
    uncounted: tuple[str, ...]  # packages whose claims are not known, so that conflicts with them are not found

    @property
    def counts(self) -> dict[str, int]:
        return {state: count for state in reversed(STATES) if (count := sum(row.state == state for row in self.rows))}


class _Kept(msgspec.Struct):
    """What a listing leaves for the next one."""

    form: str
    seen: dict[str, str]  # workspace -> what its files looked like
    rows: dict[str, ShelfRow]
    shelf: Shelf


def workspaces(folder: Path) -> list[Path]:
    """Every folder below that holds a plan; nothing below one is looked into."""
    found = []
    stack = [(str(folder), 0)]
    while stack:
        at, depth = stack.pop()
        try:
            entries = list(os.scandir(at))
        except OSError:
            continue
        if any(entry.name in ("plan.toml", MAC) for entry in entries):
            found.append(Path(at))
        elif depth < MAX_DEPTH:
            stack += [
                (entry.path, depth + 1)
                for entry in entries
                if entry.name not in _PASSED and entry.is_dir(follow_symlinks=False)
            ]
    return sorted(found)


def _rows(names: Mapping[Path, str], seen: Mapping[str, Any], kept: _Kept | None) -> dict[str, ShelfRow]:
    """A row for each half of each workspace; one that is as it was is not read again."""
    rows: dict[str, ShelfRow] = {}
    for place, name in names.items():
        known = kept.rows if kept is not None and kept.seen.get(name) == seen[name] else {}
        for title, read in _halves(place, name):
            rows[title] = known.get(title) or read(place, title)
    return rows


def listing(folder: Path, cache: Path | None = None) -> Shelf:
    """The shelf of a folder. ``cache`` is where what is needed for the next listing is kept."""
    kept_file = (
        cache / "shelf" / f"{hashlib.sha256(str(folder.resolve()).encode()).hexdigest()[:32]}.json" if cache else None
    )
    kept = _kept(kept_file)
    places = workspaces(folder)
    names = {place: place.relative_to(folder).as_posix() for place in places}
    seen = {names[place]: _looks(place) for place in places}
    if kept is not None and kept.seen == seen:
        return msgspec.structs.replace(kept.shelf, folder=str(folder))
    rows = _rows(names, seen, kept)
    windows = {names[place]: place for place in places if (place / "plan.toml").is_file()}
    claims = {
        name: found for name, place in windows.items() if rows[name].digest and (found := form.read(place)) is not None
    }
    uncounted = [
        name for name in windows if rows[name].state != "unreadable" and (name not in claims or claims[name].blind)
    ]
    shelf = Shelf(str(folder), tuple(rows.values()), tuple(conflicts(rows, claims)), tuple(uncounted))
    if kept_file is not None:
        kept_file.parent.mkdir(parents=True, exist_ok=True)
        atomic.write(kept_file, msgspec.json.encode(_Kept(_FORM, seen, rows, shelf)))
    return shelf


def _halves(place: Path, name: str) -> list[tuple[str, Callable[[Path, str], ShelfRow]]]:
    """What is listed of a workspace: its half for Windows, its half for macOS, each by its title."""
    halves: list[tuple[str, Callable[[Path, str], ShelfRow]]] = []
    if (place / "plan.toml").is_file():
        halves.append((name, row))
    if (place / MAC).is_file():
        halves.append((f"{name}{MAC_HALF}" if halves else name, mac_row))
    return halves


def _kept(file: Path | None) -> _Kept | None:
    found = form.load(file, _Kept) if file else None
    return found if found is not None and found.form == _FORM else None


def _looks(place: Path) -> str:
    """Sizes and times of everything that a row depends on: the plan, what is kept of it, its packages, media and
    extras, the house.
    """
    lines = []
    base = str(place)
    for at in (
        f"{base}/plan.toml",
        f"{base}/{MAC}",
        f"{base}/proof-macos.json",
        f"{base}/.yendo/built.json",
        f"{base}/.yendo/checked.json",
        f"{base}/.yendo/claims.json",
    ):
        lines.append(_stamp(at))
    for inner in ("media", "extras", "package"):
        stack = [f"{base}/{inner}"]
        while stack:
            at = stack.pop()
            try:
                with os.scandir(at) as entries:
                    for entry in sorted(entries, key=lambda entry: entry.name):
                        if entry.is_dir(follow_symlinks=False):
                            if inner == "package" and not entry.name.endswith("-macos"):
                                lines.append(_stamp(f"{entry.path}/manifest.json"))
                            else:
                                stack.append(entry.path)
                        else:
                            found = entry.stat(follow_symlinks=False)
                            lines.append(f"{entry.name} {found.st_size} {found.st_mtime_ns}")
            except OSError:
                lines.append("-")
    at, above = base, ""
    while at != above:  # the root is above itself, whatever it is called
        stamp = _stamp(f"{at}/house.toml")
        if stamp != "-":
            lines.append(f"{at} {stamp}")
            break
        at, above = os.path.dirname(at), at  # noqa: PTH120 (it is called thousands of times)
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()[:32]


def _stamp(path: str) -> str:
    try:
        found = os.stat(path)  # noqa: PTH116
    except OSError:
        return "-"
    return f"{found.st_size} {found.st_mtime_ns}"


# --- one workspace -----------------------------------------------------------------------------------


class _Manifest(msgspec.Struct):
    id: str
    name: str
    version: str
    revision: int
    publisher: str = ""


class _Phase(msgspec.Struct):
    outcome: str


class _Proof(msgspec.Struct):
    digest: str
    machine: str
    scenario: str
    place: str
    phases: tuple[_Phase, ...]
    passed: bool = False


class _Checked(msgspec.Struct):
    plan: str
    errors: int


def row(place: Path, name: str) -> ShelfRow:
    """What a workspace is and how far it is."""
    text = (place / "plan.toml").read_bytes()
    plan = hashlib.sha256(text).hexdigest()
    known = form.read(place)
    package, manifest = _package(place, known)
    if known is not None and manifest is not None and known.plan == plan:
        said: Any = manifest
    else:
        try:
            head = tomllib.loads(text.decode("utf-8"))["package"]
            said = _Manifest(
                str(head["id"]),
                str(head["name"]),
                str(head["version"]),
                int(head.get("revision", 1)),
                str(head.get("publisher", "")),
            )
        except (UnicodeDecodeError, tomllib.TOMLDecodeError, KeyError, TypeError, ValueError) as error:
            return ShelfRow(
                name, "", place.name, "", 0, "", "unreadable", f"plan.toml: {error}"[:200], False, "", (), ()
            )
    state, why, stale, passed, failed = _state(place, plan, known, package, manifest)
    built = known.digest if known is not None and manifest is not None else ""
    return ShelfRow(
        name, said.id, said.name, said.version, said.revision, said.publisher, state, why, stale, built, passed, failed
    )


def mac_row(place: Path, name: str) -> ShelfRow:
    """The half of a workspace that is for macOS."""
    from yendo.mac_half import build, prove, reading

    try:
        plan, _ = reading.read(place)
    except YendoError as error:
        words = str(error).splitlines()[0][:200]
        return ShelfRow(name, "", place.name, "", 0, "", "unreadable", words, False, "", (), (), "macos")
    package = plan.package
    folder = place / build.FOLDER / build.name_of(plan)
    state, why, digest = "drafted", f"yendo build {place.name}", ""
    passed: tuple[str, ...] = ()
    failed: tuple[str, ...] = ()
    if folder.is_dir():
        digest = build.digest_of(folder)
        state, why = "built", f"yendo prove {place.name}"
        proof = form.load(place / prove.RECORD, prove.MacProof)
        if proof is not None and proof.digest == digest:
            passed = tuple(one.scenario for one in proof.played if one.proved)
            failed = tuple(one.scenario for one in proof.played if not one.proved)
            simulated = "" if proof.real else "on a simulated machine only"
            lacks = {
                "proved": simulated,
                "failed": f"failed: {', '.join(failed)}",
                "laid only": "its scripts ran nowhere",
            }
            state, why = ("proved" if proof.verdict == "proved" else "built"), lacks[proof.verdict]
        elif proof is not None:
            why = "what was proved is not what is built now"
    return ShelfRow(
        name, package.id, package.name, package.version, package.revision, package.publisher, state, why, False,
        digest, passed, failed, "macos",
    )  # fmt: skip


def _package(place: Path, known: Claims | None) -> tuple[Path | None, _Manifest | None]:
    """The built package that the record speaks of, where it is still there as it was."""
    if known is None:
        return None, None
    try:
        folders = [
            entry.path for entry in os.scandir(place / "package") if entry.is_dir() and not entry.name.startswith(".")
        ]
    except OSError:
        return None, None
    for folder in sorted(folders):
        try:
            data = Path(folder, "manifest.json").read_bytes()
        except OSError:
            continue
        if hashlib.sha256(data).hexdigest() == known.digest:
            return Path(folder), msgspec.json.decode(data, type=_Manifest)
    return None, None


def _state(
    place: Path, plan: str, known: Claims | None, package: Path | None, manifest: _Manifest | None
) -> tuple[str, str, bool, tuple[str, ...], tuple[str, ...]]:
    """``(state, why not further, stale, scenarios passed, scenarios failed)``."""
    looked = form.load(place / ".yendo" / "checked.json", _Checked)
    fresh = looked is not None and looked.plan == plan
    state = "checked" if fresh and looked is not None and not looked.errors else "drafted"
    why = (
        ""
        if state == "checked"
        else f"check found {looked.errors} errors"
        if fresh and looked
        else "the plan has changed since it was checked"
        if looked
        else "not checked"
    )
    if known is None:
        return state, why or "not built", False, (), ()
    if package is None:
        return state, "the package that was built is gone or was changed", True, (), ()
    old = stale(place, plan, known)
    proofs = proofs_of(package, known.digest)
    passed, failed = proofs.passed, proofs.failed
    if old:
        return state, old, True, passed, failed
    if failed:
        return "built", f"failed: {', '.join(failed[:3])}", False, passed, failed
    if passed:
        return ("proved", "" if proofs.real else "on a simulated machine only", False, passed, ())
    return "built", "proved were other bytes" if proofs.others else "not proved", bool(proofs.others), (), ()


class KeptProofs(msgspec.Struct, frozen=True):
    """What passed and what failed on some bytes, each as scenario and machine; ``others`` counts records of others.

    ``real``: some of what passed was played on a machine that is more than simulated.
    """

    passed: tuple[str, ...]
    failed: tuple[str, ...]
    others: int
    real: bool


def proofs_of(package: Path, built: str) -> KeptProofs:
    """The proofs that lie beside a package, held against its digest."""
    passed, failed, others, real = [], [], 0, False
    head = f"{package.name}.proof-"
    for entry in sorted(os.scandir(package.parent), key=lambda entry: entry.name):
        if not entry.name.startswith(head):
            continue
        proof = form.load(Path(entry.path), _Proof)
        if proof is None:
            continue
        if proof.digest != built:
            others += 1
        elif any(phase.outcome == "failed" for phase in proof.phases):
            failed.append(f"{proof.scenario} on {proof.machine}")
        elif proof.passed:
            passed.append(f"{proof.scenario} on {proof.machine}")
            real = real or proof.place != "simulation"
    return KeptProofs(tuple(passed), tuple(failed), others, real)


# --- conflicts -------------------------------------------------------------------------------------------


def conflicts(rows: dict[str, ShelfRow], claims: dict[str, Claims]) -> Iterator[ShelfConflict]:
    """Where two packages would get into one another's way."""
    by_id: dict[tuple[str, str], list[str]] = defaultdict(list)
    for name, one in rows.items():
        if one.id:
            by_id[one.id, one.system].append(name)  # two halves of one package never meet
    for (identifier, _), names in sorted(by_id.items()):
        for at, name in enumerate(names):
            for other in names[at + 1 :]:
                yield ShelfConflict(
                    name, other, "id", 1, (identifier,), "both have this id, so a machine can tell only one of them"
                )
    yield from _same_things(rows, claims)
    yield from _needs(rows, claims, {name: there for (name, system), there in by_id.items() if system == "windows"})


def _same_things(rows: dict[str, ShelfRow], claims: dict[str, Claims]) -> Iterator[ShelfConflict]:
    owners: dict[tuple[str, str], list[tuple[str, Claim]]] = defaultdict(list)
    for name, known in claims.items():
        for claim in known.claims:
            owners[claim.kind, claim.identity].append((name, claim))
    pairs: dict[tuple[str, str, str], list[tuple[Claim, bool]]] = defaultdict(list)
    for found in owners.values():
        for at, (name, claim) in enumerate(found):
            for other, theirs in found[at + 1 :]:
                if rows[name].id != rows[other].id:
                    pairs[name, other, claim.kind].append((claim, claim.content == theirs.content))
    for (name, other, kind), things in sorted(pairs.items()):
        differing = [claim for claim, same in things if not same]
        if kind == "file" and not differing:
            text = "the same content, but whoever is removed first takes it away"
        else:
            text = (
                f"{len(differing)} of them with other content"
                if differing
                else "both alike, but whoever is removed first takes it away"
            )
        shown = [claim.label for claim in differing or [claim for claim, _ in things]]
        yield ShelfConflict(name, other, kind, len(things), tuple(shown[:MAX_SHOWN]), text)


def _needs(
    rows: dict[str, ShelfRow], claims: dict[str, Claims], by_id: dict[str, list[str]]
) -> Iterator[ShelfConflict]:
    wanted: dict[str, list[tuple[str, str]]] = defaultdict(list)
    for name, known in claims.items():
        for package, version in known.needs:
            wanted[package].append((name, version))
    for package, found in sorted(wanted.items()):
        for at, (name, version) in enumerate(found):
            for other, theirs in found[at + 1 :]:
                both = ",".join(part for part in (version, theirs) if part)
                if both and not VersionRange.parse(both).possible:
                    yield ShelfConflict(
                        name, other, "prerequisite", 1, (package,), f"no version of {package} is {version} and {theirs}"
                    )
            for provider in by_id.get(package, []):
                try:
                    fits = not version or VersionRange.parse(version).fits(rows[provider].version)
                except ValueError:
                    continue
                if not fits:
                    yield ShelfConflict(
                        name,
                        provider,
                        "prerequisite",
                        1,
                        (package,),
                        f"{version} is needed, {rows[provider].version} is here",
                    )
