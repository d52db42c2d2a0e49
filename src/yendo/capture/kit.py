"""A capture on a Windows where nothing can be installed: a kit does the work there and brings back what it changed,
with the contents of files.
"""

from __future__ import annotations

import contextlib
import secrets
import shutil
import zipfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO, cast

import msgspec

from yendo import atomic, digest
from yendo.capture.take import TIMEOUT, WorkLine, command_of
from yendo.errors import Unreadable, Usage
from yendo.machines.recorded.machine import RecordedMachine
from yendo.platforms.windows import paths
from yendo.platforms.windows.surroundings import Account
from yendo.prove import kit
from yendo.prove.verdicts import FOLDER

RESULT = "result.gz"  # in what is brought back, beside the contents
MAX_CONTENT = 4 << 30


class CaptureKit(msgspec.Struct, frozen=True):
    """What is kept beside the workspace of a kit that was made: the work, and ``key``, which seals its result.

    ``setup`` and ``beside`` are the names of the vendor's files, ``source`` and ``sha256`` the setup's path here and
    its hash; ``result`` is what the kit brings back.
    """

    id: str
    key: str
    account: Account
    jobs: tuple[WorkLine, ...]
    setup: str
    source: str
    sha256: str
    beside: tuple[str, ...]
    although: str
    result: str

    @property
    def at_hand(self) -> Path | None:
        """The setup, if it is still where it was, and the same."""
        path = Path(self.source)
        return path if self.setup and path.is_file() and digest.of_file(path) == self.sha256 else None

    @property
    def brought(self) -> list[Path]:
        """The vendor's files, by their names on the machine."""
        return [Path(name) for name in (self.setup, *self.beside) if name]


def note_of(folder: Path) -> Path:
    """Where a kit for a workspace is kept."""
    return folder.parent / f"{folder.name}.capture-kit.json"


def write(
    folder: Path,
    target: Path,
    jobs: Sequence[WorkLine],
    *,
    setup: Path | None = None,
    beside: Sequence[Path] = (),
    account: Account = "user",
    although: str = "",
    timeout: float = TIMEOUT,
    idle: int = kit.IDLE,
) -> CaptureKit:
    """Makes a kit for a workspace as an archive, and keeps its key beside the workspace.

    Raises Usage where a person would have to work as the system account.
    """
    if account == "system" and any(job.hand for job in jobs):
        raise Usage("nobody sits at the system account's screen; let the kit be played at a desk: --scenario desk")
    brought = [path for path in (setup, *beside) if path is not None]
    made = CaptureKit(
        secrets.token_hex(16),
        kit.new_key(),
        account,
        tuple(jobs),
        setup.name if setup else "",
        str(setup.absolute()) if setup else "",
        digest.of_file(setup) if setup else "",
        tuple(path.name for path in beside),
        although,
        f"{folder.name}.captured.zip",
    )
    acts = [("look",), *([("idle", str(idle)), ("look",)] if idle else [])]
    acts.append(("copy", "kit:" + paths.join("brought", "1"), FOLDER, "counts"))
    for job in jobs:
        line = command_of(job, brought)
        acts.append(("watch", f"{timeout:g}", FOLDER if brought else "", line, "hand" if job.hand else ""))
        acts += [("look",), ("settle",)]
    acts.append(("keep", FOLDER))
    play = kit.Play(
        id=folder.name,
        name=folder.name,
        what=f"This does the work for {folder.name} and keeps what it changes",
        digest=made.id,
        account=account,
        key=made.key,
        acts=tuple(acts),
        result=made.result,
        next=f"yendo capture {folder.name} --from {made.result}",
    )
    own = kit.own_files(play, _readme(folder, made, brought)) | {"brought/1/": b""}
    kit.pack(target, own, loose={f"brought/1/{path.name}": path for path in brought})
    atomic.write(note_of(folder), msgspec.json.encode(made) + b"\n")
    return made


def _readme(folder: Path, made: CaptureKit, brought: Sequence[Path]) -> str:
    lines = "\n".join(
        f"   {job.part}: {command_of(job, brought)}" + (", then by hand at its windows" if job.hand else "")
        for job in made.jobs
    )
    return f"""A kit that does the work for {folder.name}, and keeps what it changes

1. Take a Windows that is put back afterwards, and on which nothing of the program was ever installed.
2. Copy this folder onto it, to a local disk. Start play.cmd as administrator, and type yes.
3. It looks at the machine, does this, looks after each line, and goes on after restarts by itself:
{lines}
4. Take {made.result} from this folder to where Yendo is:
   yendo capture {folder.name} --from {made.result}
5. Put the machine back.
   A second result, from a Windows with another name and another person, tells what is a machine's own; give both:
   yendo capture {folder.name} --from FIRST --from SECOND

What it writes down: names, sizes and hashes of files, the registry, which programs run, the machine's name and Windows;
and the contents of all files that are new or another afterwards. It sends nothing anywhere.
"""


def kept_for(folder: Path) -> CaptureKit:
    """The kit that was made for a workspace. Raises Usage where none was made here."""
    try:
        return msgspec.json.decode(note_of(folder).read_bytes(), type=CaptureKit)
    except FileNotFoundError as error:
        raise Usage(
            f"no kit for {folder} was made here: {note_of(folder).name} would lie beside it; "
            f"yendo capture {folder} ... --kit FILE makes one"
        ) from error
    except msgspec.MsgspecError as error:
        raise Unreadable(f"{note_of(folder)} cannot be read: {error}") from error


@contextlib.contextmanager
def brought_back(result: Path, made: CaptureKit) -> Iterator[RecordedMachine]:
    """The machine that a kit was played on, as far as it brought it back. Raises Usage, Unreadable."""
    if not result.is_file():
        raise Usage(f"{result} is not there; a kit leaves its result in its own folder")
    with contextlib.ExitStack() as stack:
        try:
            packed = stack.enter_context(zipfile.ZipFile(result))
            with packed.open(RESULT) as record:
                parts, account = kit.recorded(cast(BinaryIO, record), result.name, made.id, made.key)
        except (zipfile.BadZipFile, KeyError, OSError, NotImplementedError, RuntimeError) as error:
            raise Unreadable(f"{result.name} is no result of a kit that captures: {error}") from error
        if account not in (made.account, "here"):
            raise Usage(f"{result.name} was made as {account}; the kit is for {made.account}")

        def content(name: str, target: Path) -> bool:
            try:
                info = packed.getinfo(f"kept/{name}")
                if info.file_size > MAX_CONTENT:
                    raise Unreadable(f"a content of {result.name} has more than {MAX_CONTENT >> 30} GB")
                with packed.open(info) as source, target.open("wb") as file:
                    shutil.copyfileobj(source, file, 1 << 20)
            except KeyError:
                return False
            except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError) as error:
                raise Unreadable(f"a content of {result.name} cannot be read: {error}") from error
            return True

        machine = RecordedMachine(parts, made.account, content)
        machine.label = f"{machine.words}, by a kit"
        yield machine
