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
from importlib.resources import files
from pathlib import Path

import msgspec

from yendo import atomic
from yendo.errors import Unreadable, Usage
from yendo.facts.surroundings import Account
from yendo.machines.recorded.machine import RecordedMachine, RecordedPart
from yendo.package import archive, scripts
from yendo.package import manifest as form
from yendo.prove import stage
from yendo.prove.prove import digest_of
from yendo.prove.scenarios import SCENARIOS

PLAYED = ("system", "desk")  # what a kit can play: those that are the whole life of a package
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


class KitResult(msgspec.Struct):
    """A result that holds together: the machine that it was made on, the scenario, the site."""

    machine: RecordedMachine
    scenario: str
    site: str


def note_of(package: Path, scenario: str, site: str) -> Path:
    """Where the key of a kit is kept."""
    return package.parent / f"{package.name}.kit-{scenario}{'@' + site if site else ''}.json"


def result_of(manifest: form.Manifest, scenario: str, site: str) -> str:
    """What a kit of a package calls its result."""
    return f"{manifest.id}-{scenario}{'-' + site if site else ''}.result.gz"


def write(package: Path, target: Path, scenario: str = "system", site: str = "", *, idle: int = IDLE) -> Kit:
    """Makes a kit for a built package as an archive, and keeps its key beside the package. Raises Usage."""
    kit, own = _made(package, scenario, site, idle)
    with atomic.writing(target) as file, zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, data in own.items():
            info = archive.member(name)
            info.compress_type = packed.compression
            packed.writestr(info, data)
        archive.add_folder(packed, package, "package/")
    atomic.write(note_of(package, scenario, site), msgspec.json.encode(kit) + b"\n")
    return kit


def lay_out(package: Path, folder: Path, scenario: str, site: str, *, idle: int = IDLE) -> Kit:
    """The same as a folder, for a play that is watched to its end: nobody else has to know its key. Raises Usage."""
    kit, own = _made(package, scenario, site, idle)
    folder.mkdir()
    for name, data in own.items():
        (folder / name).write_bytes(data)
    shutil.copytree(package, folder / "package")
    return kit


def _made(package: Path, scenario: str, site: str, idle: int) -> tuple[Kit, dict[str, bytes]]:
    """A kit, and its own files beside the package."""
    if scenario not in PLAYED:
        raise Usage(f"a kit plays {' or '.join(PLAYED)}, not {scenario}; prove the others on a machine")
    manifest = form.read(package)
    kit = Kit(digest_of(package), scenario, site, base64.b64encode(secrets.token_bytes(32)).decode())
    made_up = stage.made_up(manifest)
    own = {
        "play.cmd": _DOORWAY.encode(),
        "play.ps1": _script(manifest, kit, SCENARIOS[scenario].account, bool(made_up), idle),
        "README.txt": _readme(manifest, scenario, result_of(manifest, scenario, site)).replace("\n", "\r\n").encode(),
    }
    return kit, own | ({"values.txt": stage.values_text(made_up)} if made_up else {})


def _script(manifest: form.Manifest, kit: Kit, account: Account, secret: bool, idle: int) -> bytes:
    options = stage.options_of(kit.site, r"%ProgramFiles%\Yendo proof\values.txt" if secret else "")
    data = {
        "id": manifest.id,
        "name": f"{manifest.name} {manifest.version}, revision {manifest.revision}",
        "digest": kit.digest,
        "account": account if account == "system" else "user",
        "options": options,
        "logs": manifest.logs,
        "home": manifest.home,
        "key": kit.key,
        "idle": idle,
        "removes": bool(manifest.uninstall),
        "result": result_of(manifest, kit.scenario, kit.site),
    }
    return assembled("yendo.machines.recorded", "play.ps1", data)


def assembled(room: str, name: str, data: Mapping[str, object]) -> bytes:
    """A script for a real machine: its own text, the parts that it shares with others, and its data."""
    observing = files("yendo.machines.recorded")
    parts = {part: files("yendo.package") for part in ("people", "facts", "trust")}
    text = files(room).joinpath(name).read_text("utf-8")
    for part, place in {**parts, "observe": observing, "task": observing}.items():
        text = text.replace(f"#{part.upper()}#", place.joinpath(f"{part}.ps1").read_text("utf-8"))
    lines = [f"    {scripts.literal(key)} = {scripts.literal(value)}" for key, value in data.items()]
    return scripts.script(text.replace("#DATA#", "$Kit = @{\n" + "\n".join(lines) + "\n}"))


def _readme(manifest: form.Manifest, scenario: str, result: str) -> str:
    what = f"{manifest.name} {manifest.version}, revision {manifest.revision}"
    return f"""A proof kit for {what}: {SCENARIOS[scenario].title}

1. Take a Windows that is put back afterwards, as fresh as those that the package is for. Nobody works on it meanwhile.
2. Copy this folder onto it, to a local disk. Start play.cmd as administrator, and type yes.
3. It looks, installs, looks, installs again, looks, removes, looks. It goes on after restarts by itself.
4. Take {result} from this folder to where Yendo is:
   yendo prove {manifest.id} --from {result}
5. Put the machine back.

What it writes down: names, sizes and hashes of files, the registry, which programs run, the package's own logs, the
machine's name and Windows. No contents of files but small .ini and .lnk files. It sends nothing anywhere.
"""


# --- the result -----------------------------------------------------------------------------------------


def read(result: Path, package: Path, kits: Sequence[Kit] = ()) -> KitResult:
    """A result for this package, of one of these kits; else of one whose key is kept beside the package.

    Raises Usage where it belongs to another package, Unreadable where it is damaged.
    """
    head, parts, seal, sealed = _parts(result)
    kind, version, digest, name, account = (*head.split("\t"), "", "", "", "", "")[:5]
    if (kind, version) != ("yendo-result", "1"):
        raise Unreadable(f"{result.name} is no result of a proof kit, or of a later one")
    if digest != digest_of(package):
        raise Usage(f"{result.name} was made with other bytes of {name}; make a kit of this package, and play it again")
    known = [kit for kit in kits or _kept(package) if kit.digest == digest]
    if not known:
        raise Usage(f"no kit of this package was made here: its key would lie beside {package}")
    for kit in known:
        if hmac.compare_digest(hmac.new(base64.b64decode(kit.key), seal, hashlib.sha256).hexdigest(), sealed):
            break
    else:
        raise Unreadable(
            f"{result.name} is not as the kit wrote it: it was changed, or made with an older kit; play it again"
        )
    played: Account = "system" if account == "system" else "user"
    if played != SCENARIOS[kit.scenario].account and account != "here":
        raise Usage(f"{result.name} was made as {account}; the kit is for {kit.scenario}")
    return KitResult(RecordedMachine(parts, SCENARIOS[kit.scenario].account), kit.scenario, kit.site)


def _kept(package: Path) -> list[Kit]:
    """The kits that were made for a package and carried away."""
    notes = sorted(package.parent.glob(f"{package.name}.kit-*.json"))
    return [msgspec.json.decode(path.read_bytes(), type=Kit) for path in notes]


def _parts(result: Path) -> tuple[str, list[RecordedPart], bytes, str]:
    """The first line, the parts, what is sealed, the seal."""
    if not result.is_file():
        raise Usage(f"{result} is not there; a kit leaves its result in its own folder")
    try:
        with gzip.open(result) as file:
            whole = _bounded(file)
    except (OSError, EOFError, zlib.error) as error:
        raise Unreadable(f"{result.name} is no result of a proof kit: {error}") from error
    body, mark, last = whole.rpartition(b"sealed ")
    match = re.fullmatch(rb"([0-9a-f]{64})\n", last)
    if not mark or not match:
        raise Unreadable(f"{result.name} ends in its middle; take the whole file from the kit's folder")
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
