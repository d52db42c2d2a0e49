"""Setup programs on the simulated machine: replayed from a recording, or carried out as far as they can be read."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import msgspec

from yendo import digest
from yendo.effects import Effect, State, apply
from yendo.errors import NotCovered, Unreadable
from yendo.installers import programs as reading
from yendo.installers.family import InstalledDatabase
from yendo.machines.protocol import Ran
from yendo.platforms.windows import exit_codes
from yendo.platforms.windows.recording import Recording, replay
from yendo.platforms.windows.surroundings import Surroundings

OBSERVED = "observed"  # the folder of a package with its recordings
_LINE = re.compile(r'"([^"]+)"\s*(.*)$')


class FoundProgram(msgspec.Struct):
    """How a command line can be carried out: a recording, an installer that can be read, or an uninstaller it left."""

    program: str
    arguments: str
    recording: Recording | None = None
    installer: Path | None = None
    removes: tuple[Path, str] | None = None
    uninstallers: dict[str, tuple[Path, str]] = {}
    databases: tuple[InstalledDatabase, ...] = ()

    def carry_out(self, surroundings: Surroundings, state: State) -> tuple[list[Effect], Ran]:
        """Changes the state; raises NotCovered where the program cannot be read."""
        if self.recording is not None:
            done = replay(self.recording, state, surroundings.environment)
            return done, Ran(self.recording.exit_code, self.recording.label, 0.0)
        if self.removes is not None:
            effects = reading.removal(self.removes[0], self.removes[1], surroundings, state)
            if effects is None:
                raise NotCovered(
                    f"what {self.program} removes is known only from a run: yendo try "
                    f"{self.removes[0].name} --into the workspace records one, --machine wine proves it there"
                )
            apply(effects, state)
            return list(effects), Ran(0, "predicted from the uninstaller's own script", 0.0)
        assert self.installer is not None
        with self.installer.open("rb") as file:
            program = reading.Reading(file, self.installer.name)
            prediction = program.predict(self.program, self.arguments, surroundings, state)
        if not prediction.effects and prediction.exit_code is None:
            raise NotCovered(
                f"{self.installer.name} is of family {program.family}: what it does is known only from a run. "
                "Record one with `yendo try`, or prove this on a real machine (--machine wine)"
            )
        apply(prediction.effects, state)
        self.databases = prediction.databases
        for effect in prediction.effects:
            if (
                effect.kind == "file"
                and effect.thing.identity.endswith(".exe")
                and effect.evidence
                and effect.change == "add"
            ):
                self.uninstallers[effect.thing.identity] = (self.installer, self.program)
        code = prediction.exit_code or 0
        return list(prediction.effects), Ran(
            exit_codes.NEEDS_RESTART if prediction.restarts and not code else code,
            "predicted from the installer itself",
            0.0,
        )


def recordings(package: Path) -> list[Recording]:
    """The recordings of a package. Raises Unreadable."""
    found = []
    for path in sorted((package / OBSERVED).glob("*.json")):
        try:
            found.append(msgspec.json.decode(path.read_bytes(), type=Recording))
        except (msgspec.MsgspecError, UnicodeDecodeError) as error:
            raise Unreadable(f"{path}: {error}") from error
    return found


def _fits(recording: Recording, line: str, folder: str) -> bool:
    """Whether a command line is the recorded one, wherever the package and its logs lie."""
    pattern = re.escape(recording.command).replace(r"\{package\}", re.escape(folder)).replace(r"\{logs\}", '[^"]*')
    return re.fullmatch(pattern, line, re.I) is not None


def recorded(line: str, brought: list[tuple[str, Path]]) -> Recording | None:
    """The recording of a command line among those of the packages that were brought."""
    return next(
        (
            recording
            for folder, package in brought
            for recording in recordings(package)
            if _fits(recording, line, folder)
        ),
        None,
    )


def find(
    line: str,
    recording: Recording | None,
    lookup: Callable[[str], bytes | Path | None],
    left: dict[str, tuple[Path, str]],
) -> FoundProgram | None:
    """How a command line can be carried out, or None. ``left`` are uninstallers of programs that were read."""
    match = _LINE.match(line)
    program, arguments = (match[1], match[2].strip()) if match else ("", line)
    at = lookup(program) if program else None
    if recording is not None:
        if isinstance(at, Path) and digest.of_file(at) != recording.media:
            raise NotCovered(f"the recording of {at.name} is of another file; record it again with `yendo try`")
        return FoundProgram(program, arguments, recording)
    if isinstance(at, Path):
        return FoundProgram(program, arguments, installer=at)
    if program.lower() in left:
        return FoundProgram(program, arguments, removes=left[program.lower()])
    return None
