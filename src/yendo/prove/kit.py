"""A proof kit: a folder for a computer on which nothing may be installed and that no network reaches. It plays a
scenario there, without Python, and writes one file, which is judged here like any other run.

The file is sealed by a key that the kit carries. That shows that nothing was lost or changed on its way by somebody
who has not the kit; whoever has it could make up a result.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
import hmac
import re
import secrets
import shutil
import zipfile
import zlib
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from yendo import atomic
from yendo.errors import Unreadable, Usage
from yendo.machines.recorded.machine import RecordedMachine, RecordedPart
from yendo.package import archive, scripts
from yendo.package import manifest as form
from yendo.platforms.windows import paths
from yendo.platforms.windows.surroundings import Account
from yendo.prove.acts import Act, acts_of
from yendo.prove.prove import digest_of
from yendo.prove.scenarios import Scenario

IDLE = 60  # seconds in which nothing is done, to see what the machine changes by itself
MAX_RESULT = 4 << 30
_DOORWAY = (
    '@echo off\r\n"%SystemRoot%\\System32\\WindowsPowerShell\\v1.0\\powershell.exe" -NoLogo -NoProfile '
    '-ExecutionPolicy Bypass -File "%~dp0play.ps1" %*\r\n'
)


class Kit(msgspec.Struct, frozen=True):
    """What is kept beside the package of a kit that was made: ``key`` seals its result."""

    digest: str
    scenario: str
    site: str
    key: str
    account: Account = "system"


class KitResult(msgspec.Struct):
    """A result that holds together: the machine that it was made on, the scenario's name, the site."""

    machine: RecordedMachine
    scenario: str
    site: str


def note_of(package: Path, scenario: str, site: str) -> Path:
    """Where the key of a kit is kept."""
    return package.parent / f"{package.name}.kit-{scenario.replace(':', '-')}{'@' + site if site else ''}.json"


def result_of(manifest: form.Manifest, scenario: str, site: str) -> str:
    """What a kit of a package calls its result."""
    return f"{manifest.id}-{scenario.replace(':', '-')}{'-' + site if site else ''}.result.gz"


def write(
    package: Path, target: Path, scenario: Scenario, site: str = "", *, idle: int = IDLE, wanted: Sequence[str] = ()
) -> Kit:
    """Makes a kit for a built package as an archive, and keeps its key beside the package. ``wanted`` is what has to be
    on the machine beforehand, in words. Raises Usage where the scenario is none for a kit.
    """
    made = _made(package, scenario, site, idle, wanted)
    pack(target, made.files, folders=made.folders)
    atomic.write(note_of(package, scenario.id, site), msgspec.json.encode(made.kit) + b"\n")
    return made.kit


def pack(
    target: Path, own: Mapping[str, bytes], *, folders: Mapping[str, Path] = {}, loose: Mapping[str, Path] = {}
) -> None:
    """Writes a kit as an archive: its own files, and the folders and files that it brings, by their names in it."""
    with atomic.writing(target) as file, zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, data in own.items():
            info = archive.member(name)
            info.compress_type = packed.compression
            packed.writestr(info, data)
        for name, folder in folders.items():
            archive.add_folder(packed, folder, f"{name}/")
        for name, path in loose.items():
            packed.write(path, name)


def new_key() -> str:
    """A key that seals the result of one kit."""
    return base64.b64encode(secrets.token_bytes(32)).decode()


def lay_out(package: Path, folder: Path, scenario: Scenario, site: str, *, idle: int = IDLE) -> Kit:
    """The same as a folder, for a play that is watched to its end: nobody else has to know its key. Raises Usage."""
    made = _made(package, scenario, site, idle)
    folder.mkdir()
    for name, data in made.files.items():
        target = folder / name
        target.parent.mkdir(exist_ok=True)
        target.write_bytes(data)
    for name, source in made.folders.items():
        shutil.copytree(source, folder / name)
    return made.kit


class _Made(msgspec.Struct):
    """A kit: its own files and the folders that it brings, by their names in it."""

    kit: Kit
    files: dict[str, bytes]
    folders: dict[str, Path]


def _made(package: Path, scenario: Scenario, site: str, idle: int, wanted: Sequence[str] = ()) -> _Made:
    manifest = form.read(package)
    played = acts_of(package, scenario, site, idle=idle)
    kit = Kit(digest_of(package), scenario.id, site, new_key(), scenario.account)
    result = result_of(manifest, scenario.id, site)
    return _Made(
        kit,
        {
            **own_files(
                _play(manifest, kit, played.acts, result), _readme(manifest, scenario, played.acts, result, wanted)
            ),
            **{paths.portable(name): data for name, data in played.contents.items()},
        },
        {"package": package, **{paths.portable(name): folder for name, folder in played.folders.items()}},
    )


class Play(msgspec.Struct, frozen=True):
    """What ``play.ps1`` has to know. ``digest`` says whose the result is, and is the hash of the file ``checked`` where
    there is one; ``what`` is said before it begins, ``next`` in the end. ``logs`` and ``home`` are a package's.
    """

    id: str
    name: str
    what: str
    digest: str
    account: Account
    key: str
    acts: tuple[Act, ...]
    result: str
    next: str
    checked: str = ""
    logs: str = ""
    home: str = ""


def own_files(play: Play, readme: str) -> dict[str, bytes]:
    """A kit's own files by their names: the doorway, the script, what a person has to read."""
    data = msgspec.structs.asdict(play)
    return {
        "play.cmd": _DOORWAY.encode(),
        "play.ps1": scripts.assembled("yendo.machines.recorded", "play.ps1", data),
        "README.txt": readme.replace("\n", "\r\n").encode(),
    }


def _play(manifest: form.Manifest, kit: Kit, acts: Sequence[Act], result: str) -> Play:
    name = f"{manifest.name} {manifest.version}, revision {manifest.revision}"
    return Play(
        id=manifest.id,
        name=name,
        what=f"This installs {name}, and does the rest of the scenario {kit.scenario},",
        digest=kit.digest,
        account=kit.account,
        key=kit.key,
        acts=tuple(acts),
        result=result,
        next=f"yendo prove {manifest.id} --from {result}",
        checked=paths.join("package", "manifest.json"),
        logs=manifest.logs,
        home=manifest.home,
    )


def _readme(
    manifest: form.Manifest, scenario: Scenario, acts: Sequence[Act], result: str, wanted: Sequence[str]
) -> str:
    what = f"{manifest.name} {manifest.version}, revision {manifest.revision}"
    fetched = sorted({act[1] for act in acts if act[0] == "fetch"})
    before = f" Put onto it what the plan says is there: {'; '.join(wanted)}." if wanted else ""
    contents = "No contents of files but small .ini and .lnk files" + (f", and {', '.join(fetched)}" if fetched else "")
    return f"""A proof kit for {what}: {scenario.title}

1. Take a Windows that is put back afterwards, as fresh as those that the package is for. Nobody works on it
   meanwhile.{before}
2. Copy this folder onto it, to a local disk. Start play.cmd as administrator, and type yes.
3. It does this, and goes on after restarts by itself: {_order(acts)}.
4. Take {result} from this folder to where Yendo is:
   yendo prove {manifest.id} --from {result}
5. Put the machine back.

What it writes down: names, sizes and hashes of files, the registry, which programs run, the package's own logs, the
machine's name and Windows. {contents}. It sends nothing anywhere.
"""


def _order(acts: Sequence[Act]) -> str:
    """What is done, in words, one after the other; a look beside a look is one."""
    said: list[str] = []
    for act in acts:
        if act[0] == "verb":
            word = act[1]
        elif act[0] == "look":
            word = "look"
        elif act[0] in ("run", "remove", "remove-tree"):
            word = f"{'run' if act[0] == 'run' else 'delete'} {act[3] if act[0] == 'run' else act[1]}"
        else:
            continue
        if not said or said[-1] != word:
            said.append(word)
    return ", ".join(said)


# --- the result -----------------------------------------------------------------------------------------


def read(result: Path, package: Path, kits: Sequence[Kit] = ()) -> KitResult:
    """A result for this package, of one of these kits; else of one whose key is kept beside the package.

    Raises Usage where it belongs to another package, Unreadable where it is damaged.
    """
    if not result.is_file():
        raise Usage(f"{result} is not there; a kit leaves its result in its own folder")
    with result.open("rb") as file:
        head, parts, seal, sealed = _parts(file, result.name)
    digest, name, account = _headed(head, result.name)
    if digest != digest_of(package):
        raise Usage(f"{result.name} was made with other bytes of {name}; make a kit of this package, and play it again")
    known = [kit for kit in kits or _kept(package) if kit.digest == digest]
    if not known:
        raise Usage(f"no kit of this package was made here: its key would lie beside {package}")
    kit = next((kit for kit in known if _sealed_by(kit.key, seal, sealed)), None)
    if kit is None:
        raise Unreadable(_OTHERWISE.format(result.name))
    played: Account = "system" if account == "system" else "user"
    if played != kit.account and account != "here":
        raise Usage(f"{result.name} was made as {account}; the kit is for {kit.scenario}")
    return KitResult(RecordedMachine(parts, kit.account), kit.scenario, kit.site)


_OTHERWISE = "{} is not as the kit wrote it: it was changed, or made with an older kit; play it again"


def _headed(head: str, called: str) -> tuple[str, str, str]:
    """What a result's first line says: whose it is, the name, the account that played it."""
    kind, version, digest, name, account = (*head.split("\t"), "", "", "", "", "")[:5]
    if (kind, version) == ("yendo-result", "1"):
        raise Usage(f"{called} was made by a kit of an earlier Yendo; make the kit again, and play it again")
    if (kind, version) != ("yendo-result", "2"):
        raise Unreadable(f"{called} is no result of a proof kit, or of a later one")
    return digest, name, account


def _sealed_by(key: str, body: bytes, seal: str) -> bool:
    return hmac.compare_digest(hmac.new(base64.b64decode(key), body, hashlib.sha256).hexdigest(), seal)


def recorded(result: BinaryIO, called: str, identifier: str, key: str) -> tuple[list[RecordedPart], str]:
    """The parts of a result that is no package's, and the account that played it; ``called`` is the result's name.
    Raises Usage where it belongs to another kit, Unreadable where it is damaged.
    """
    head, parts, body, seal = _parts(result, called)
    mine, name, account = _headed(head, called)
    if mine != identifier:
        raise Usage(f"{called} is the result of another kit, for {name}")
    if not _sealed_by(key, body, seal):
        raise Unreadable(_OTHERWISE.format(called))
    return parts, account


def _kept(package: Path) -> list[Kit]:
    """The kits that were made for a package and carried away."""
    notes = sorted(package.parent.glob(f"{package.name}.kit-*.json"))
    return [msgspec.json.decode(path.read_bytes(), type=Kit) for path in notes]


def _parts(result: BinaryIO, called: str) -> tuple[str, list[RecordedPart], bytes, str]:
    """The first line, the parts, what is sealed, the seal."""
    try:
        with gzip.open(result) as file:
            whole = _bounded(file)
    except (OSError, EOFError, zlib.error) as error:
        raise Unreadable(f"{called} is no result of a proof kit: {error}") from error
    body, mark, last = whole.rpartition(b"sealed ")
    match = re.fullmatch(rb"([0-9a-f]{64})\n", last)
    if not mark or not match:
        raise Unreadable(f"{called} ends in its middle; take the whole file from the kit's folder")
    lines = body.decode("utf-8", "replace").split("\n")
    if lines and not lines[-1]:
        lines.pop()
    return lines[0] if lines else "", list(_split(lines[1:])), body, match[1].decode()


def _bounded(file: gzip.GzipFile) -> bytes:
    pieces, size = [], 0
    while piece := file.read(1 << 22):
        size += len(piece)
        if size > MAX_RESULT:
            raise Unreadable(f"the result unpacks to more than {MAX_RESULT >> 30} GB")
        pieces.append(piece)
    return b"".join(pieces)


def _split(lines: list[str]) -> Iterator[RecordedPart]:
    part: RecordedPart | None = None
    for line in lines:
        if line.startswith("part ") and "\t" not in line:
            if part:
                yield part
            part = RecordedPart(line[5:], [])
        elif part:
            part.lines.append(line)
    if part:
        yield part
