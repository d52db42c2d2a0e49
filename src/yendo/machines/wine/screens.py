"""Looking at a virtual screen: windows that appear, and pictures of them."""

from __future__ import annotations

import io
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import import_module
from types import TracebackType
from typing import Any, Self

import msgspec

from yendo.errors import NoMachine

GROUND = 0x2E5E6E
_PRESSED, _RELEASED = 2, 3  # events of the X protocol


class Appeared(msgspec.Struct, frozen=True):
    """A window that the screen showed, however briefly; ``program`` is its class, which the layer sets to the program's
    name.
    """

    window: int
    program: str
    title: str


class Screen:
    """A connection to one screen. Raises NoMachine where the library for it is missing.

    ``ground`` gives it a colour of its own, which a person's screen does not get.
    """

    def __init__(self, display: str, *, ground: bool = True) -> None:
        try:
            self._x: Any = import_module("xcffib")
            import_module("xcffib.xproto")
        except (ImportError, OSError) as error:
            raise NoMachine(f"looking at a screen needs libxcb (apt-get install libxcb1): {error}") from error
        self.connection: Any = self._x.connect(display=display)
        self.root = self.connection.get_setup().roots[0]
        if ground:  # its colour tells a window that has drawn nothing from a black one
            self.connection.core.ChangeWindowAttributes(self.root.root, self._x.xproto.CW.BackPixel, [GROUND])
            self.connection.core.ClearArea(False, self.root.root, 0, 0, 0, 0)
        mask = self._x.xproto.EventMask.SubstructureNotify
        self.connection.core.ChangeWindowAttributesChecked(self.root.root, self._x.xproto.CW.EventMask, [mask]).check()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.connection.disconnect()

    def appeared(self) -> list[Appeared]:
        """The windows that were shown since the last call."""
        found = []
        while (event := self.connection.poll_for_event()) is not None:
            if isinstance(event, self._x.xproto.MapNotifyEvent):
                found.append(
                    Appeared(event.window, self._text(event.window, 67), self._text(event.window, 39))
                )  # WM_CLASS, WM_NAME
        return found

    def _text(self, window: int, atom: int) -> str:
        try:
            reply = self.connection.core.GetProperty(False, window, atom, 0, 0, 1024).reply()
        except self._x.xproto.WindowError:
            return ""  # it is gone already
        return bytes(reply.value.buf()).partition(b"\0")[0].decode("utf-8", "replace") if reply.value_len else ""

    def picture(self, left: int, top: int, width: int, height: int) -> bytes | None:
        """A part of the screen as PNG, cut to the screen; None where nothing of it is left, or nothing is
        drawn there.
        """
        from PIL import Image

        full_width, full_height = self.root.width_in_pixels, self.root.height_in_pixels
        left, top, right, bottom = (
            max(left, 0),
            max(top, 0),
            min(left + width, full_width),
            min(top + height, full_height),
        )
        if right <= left or bottom <= top:
            return None
        form = self._x.xproto.ImageFormat.ZPixmap
        reply = self.connection.core.GetImage(
            form, self.root.root, left, top, right - left, bottom - top, 0xFFFFFFFF
        ).reply()
        image = Image.frombytes("RGB", (right - left, bottom - top), bytes(reply.data.buf()), "raw", "BGRX")
        if image.getcolors(1) == [((right - left) * (bottom - top), (GROUND >> 16, GROUND >> 8 & 0xFF, GROUND & 0xFF))]:
            return None
        out = io.BytesIO()
        image.save(out, "PNG", optimize=True)
        return out.getvalue()


@contextmanager
def pressing(display: str, letter: str) -> Iterator[None]:
    """Somebody at a screen who presses a letter twice a second while the block goes on: answers a question by its
    underlined letter. Raises NoMachine.
    """
    try:
        xcffib, xtest = import_module("xcffib"), import_module("xcffib.xtest")
        import_module("xcffib.xproto")
    except ImportError as error:
        raise NoMachine("pressing keys on a screen needs the library xcffib: pip install xcffib") from error
    connection = xcffib.connect(display=display)
    press, setup = connection(xtest.key), connection.get_setup()
    first = setup.min_keycode
    table = connection.core.GetKeyboardMapping(first, setup.max_keycode - first + 1).reply()
    code = next(first + at // table.keysyms_per_keycode for at, key in enumerate(table.keysyms) if key == ord(letter))
    over = threading.Event()

    def person() -> None:
        while not over.wait(0.5):
            for event in (_PRESSED, _RELEASED):
                press.FakeInput(event, code, 0, setup.roots[0].root, 0, 0, 0)
            connection.flush()

    thread = threading.Thread(target=person, daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()
        connection.disconnect()
