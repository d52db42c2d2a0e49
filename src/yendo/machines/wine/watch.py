"""A run that is watched: every process to its end, every window with its picture, within a limit of time and disk."""

from __future__ import annotations

import contextlib
import shutil
import subprocess
import time
from importlib.resources import as_file, files
from pathlib import Path
from typing import Protocol

import msgspec

from yendo import host_os
from yendo.errors import NoMachine
from yendo.machines.watching import Process, Watched, Window
from yendo.machines.wine.copies import PrivateCopy
from yendo.machines.wine.layer import Prefix
from yendo.machines.wine.sandbox import Sandbox
from yendo.machines.wine.screens import Screen

IDLE = 6.0  # seconds without work and with a window that does not change, until it is taken to wait for a person
IDLE_SECONDS = 0.03  # of processor time that count as no work, a second
MAX_WINDOWS, MAX_PICTURES = 60, 12
MAX_DISK = 6 << 30


class WatchedLayer(Protocol):
    """A session on the layer, as far as a watched run needs it."""

    prefix: Prefix
    copy: PrivateCopy
    box: Sandbox | None
    asked: Path
    display: str | None

    @property
    def machine(self) -> Screened: ...


class Screened(Protocol):
    """A machine that may have a screen of a person."""

    @property
    def screen(self) -> object: ...


class _Watch:
    def __init__(self, screen: Screen) -> None:
        self.screen = screen
        self.windows: dict[int, dict[str, object]] = {}
        self.over: list[Window] = []
        self.processes: dict[int, Process] = {}
        self.past: list[Process] = []
        self.pressed: list[str] = []
        self.brief: list[tuple[str, str, float]] = []
        self.exit_code: int | None = None
        self.first_ended: float | None = None
        self.ended: float | None = None
        self.error = 0
        self.changed = time.monotonic()
        self.begun = time.monotonic()
        self.pictures = 0

    @property
    def now(self) -> float:
        return time.monotonic() - self.begun

    def event(self, line: str) -> None:
        parts = line.split(" ")
        kind, at = parts[0], int(parts[1]) / 1000
        match kind:
            case "P":
                number = int(parts[2])
                known = self.processes.get(number)
                self.processes[number] = Process(
                    number, int(parts[3]), _text(parts[4]), known.begun if known else at, None
                )
            case "D":
                gone = self.processes.pop(int(parts[2]), None)
                if gone:
                    self.past.append(msgspec.structs.replace(gone, ended=at))
            case "M":
                self.exit_code, self.first_ended = int(parts[2]), at
            case "W":
                self.changed = time.monotonic()
                self._window(parts, at)
            case "H":
                self._close(int(parts[2]), at)
            case "B":
                self.changed = time.monotonic()
                self.pressed.append(_text(parts[3]))
            case "E":
                self.ended = at
            case "X":
                self.error, self.ended = int(parts[2]), at

    def _window(self, parts: list[str], at: float) -> None:
        number, owner = int(parts[2]), int(parts[3])
        known = self.processes.get(owner)
        held = self.windows.setdefault(
            number, {"shown": at, "program": known.name if known else "", "picture": None, "texts": {}, "due": 0.0}
        )
        held["place"] = tuple(int(part) for part in parts[4:8])
        held["kind"], held["title"] = _text(parts[8]), _text(parts[9])
        texts = held["texts"]
        assert isinstance(texts, dict)
        for text in _text(parts[10]).split("\x1f"):
            if text:
                texts[text] = None
        if self.pictures < MAX_PICTURES and held["picture"] is None:
            self._picture(held)  # it may be gone soon
        held["due"] = time.monotonic() + 0.3

    def look(self) -> None:
        """Takes the pictures that are due: a moment after a window has come or changed."""
        for appeared in self.screen.appeared():
            self.brief.append((appeared.program, appeared.title, self.now))
        for held in self.windows.values():
            if 0 < float(str(held["due"])) <= time.monotonic():
                self._picture(held)

    def _picture(self, held: dict[str, object]) -> None:
        held["due"] = 0.0
        place = held["place"]
        assert isinstance(place, tuple)
        if self.pictures < MAX_PICTURES and place[2] > 2 and place[3] > 2:
            self.pictures += 1
            held["picture"] = self.screen.picture(*place) or held["picture"]

    def _close(self, number: int, at: float | None) -> None:
        held = self.windows.pop(number, None)
        if held is None or len(self.over) >= MAX_WINDOWS:
            return
        texts = held["texts"]
        assert isinstance(texts, dict)
        picture = held["picture"]
        self.over.append(
            Window(
                str(held["program"]),
                str(held["title"]),
                str(held["kind"]),
                tuple(texts),
                float(str(held["shown"])),
                at,
                picture if isinstance(picture, bytes) else None,
                place if isinstance(place := held["place"], tuple) else (),
            )
        )

    def finish(self) -> tuple[Window, ...]:
        """Every window, in the order they came; those that only the screen saw are told by their program."""
        for held in self.windows.values():
            self._picture(held)
        for number in list(self.windows):
            self._close(number, None)
        names = {process.name.lower() for process in (*self.past, *self.processes.values())}
        known = {(window.program.lower(), window.title) for window in self.over}
        programs = {window.program.lower() for window in self.over}
        for program, title, at in self.brief:
            if (
                program.lower() in names
                and (program.lower(), title) not in known
                and (title or program.lower() not in programs)
            ):
                known.add((program.lower(), title))
                self.over.append(Window(program, title, "", (), at, at))
        return tuple(sorted(self.over, key=lambda window: window.shown))


def _text(coded: str) -> str:
    try:
        return "" if coded == "-" else bytes.fromhex(coded).decode("utf-8", "replace")
    except ValueError:
        return ""


def watch(
    session: WatchedLayer,
    command: str,
    *,
    timeout: float,
    press: bool = False,
    folder: str | None = None,
    hand: bool = False,
) -> Watched:
    """Runs a Windows command line to the end of its last process, or stops it. Raises NoMachine without a screen."""
    display = session.prefix.environment.get("DISPLAY")
    if not session.display or not display:
        raise NoMachine("a trial needs a virtual screen of its own: apt-get install xvfb")
    with (
        as_file(files("yendo.machines.wine.lookout").joinpath("lookout.exe")) as program,
        Screen(display, ground=session.machine.screen is None) as screen,
    ):
        lookout = session.asked / "lookout.exe"
        shutil.copyfile(program, lookout)
        by = "Z:" + str(lookout).replace("/", "\\")
        batch, said = session.prefix.batch(f'"{by}" {int(press)} {command}', session.asked, folder)
        state = _Watch(screen)
        with said.open("wb") as output:
            process = session.prefix.launch("cmd", "/c", batch, output=output)
            try:
                stopped = _follow(session, state, process, said, timeout, hand)
            finally:
                if process.poll() is None:
                    session.prefix.stop()
                host_os.end_group(process)
        windows = state.finish()
    ended = state.ended if state.ended is not None else state.now
    processes = tuple(sorted((*state.past, *state.processes.values()), key=lambda process: process.begun))
    return Watched(
        command,
        state.exit_code if not (stopped and state.first_ended is None) else None,
        state.first_ended,
        ended,
        windows,
        processes,
        stopped,
        tuple(state.pressed),
        session.box is not None,
        state.error,
    )


def _follow(
    session: WatchedLayer, state: _Watch, process: subprocess.Popen[bytes], said: Path, timeout: float, hand: bool
) -> str:
    """Reads events until the end; says why it was stopped, or ''. One with a person at it may stand still."""
    read, rest = 0, ""
    worked, ticks, looked = time.monotonic(), 0.0, 0.0
    with said.open("rb") as events:
        while True:
            events.seek(read)
            piece = events.read(1 << 20)
            read += len(piece)
            *lines, rest = (rest + piece.decode("ascii", "replace")).split("\n")
            for line in lines:
                with contextlib.suppress(ValueError, IndexError):
                    state.event(line.rstrip("\r"))
            state.look()
            if process.poll() is not None and not piece:
                return ""
            if state.now > timeout:
                return "time"
            if time.monotonic() - looked > 1:
                names = {process.name[:15].lower() for process in state.processes.values()}
                spent = sum(
                    host_os.cpu_seconds(number) for number, name in session.prefix.processes() if name.lower() in names
                )
                if (
                    abs(spent - ticks) > IDLE_SECONDS * max(1.0, time.monotonic() - looked if looked else 1.0)
                    or not state.windows
                ):
                    worked = time.monotonic()
                ticks, looked = spent, time.monotonic()
                if session.copy.used() > MAX_DISK:
                    return "disk"
            patience = IDLE * host_os.load()  # a busy system gives every program less
            if state.windows and not hand and time.monotonic() - max(worked, state.changed) > patience:
                return "waits"
            time.sleep(0.02)
