"""Unpacking of cabinets by Windows' own ``cabinet.dll``, which knows every compression that a cabinet can have.

Source: the functions and notifications of ``fdi.h`` as the system's documentation of the File Decompression Interface
gives them. Used where libarchive is not here, that is, on Windows.
"""

from __future__ import annotations

import ctypes
import io
import sys
import tempfile
from collections.abc import Iterator, Mapping
from typing import IO, Any, BinaryIO

from yendo.errors import Unreadable

_COPY_FILE, _CLOSE_FILE_INFO, _NEXT_CABINET = 2, 3, 4
_SOURCE, _TARGET = 1, 2  # the handles that we give out
_ERRORS = {
    1: "it was not found",
    2: "it is no cabinet",
    3: "it is of an unknown version",
    4: "it is damaged",
    5: "there is not enough memory",
    6: "it uses an unknown compression",
    7: "its data is damaged",
    8: "a file could not be written",
    9: "a part of another size was needed",
    10: "it goes on in another cabinet",
    11: "the unpacking was ended",
}


class _Error(ctypes.Structure):
    _fields_ = (("oper", ctypes.c_int), ("type", ctypes.c_int), ("wrong", ctypes.c_int))


class _Notification(ctypes.Structure):
    _fields_ = (
        ("size", ctypes.c_int32),
        ("first", ctypes.c_char_p),
        ("second", ctypes.c_char_p),
        ("third", ctypes.c_char_p),
        ("user", ctypes.c_void_p),
        ("handle", ctypes.c_ssize_t),
        ("date", ctypes.c_uint16),
        ("time", ctypes.c_uint16),
        ("attributes", ctypes.c_uint16),
        ("set_id", ctypes.c_uint16),
        ("number", ctypes.c_uint16),
        ("folder", ctypes.c_uint16),
        ("error", ctypes.c_int),
    )


def is_here() -> bool:
    """Whether this system has the library."""
    return sys.platform == "win32"


def unpack(data: BinaryIO, wanted: set[str], promised: Mapping[str, int]) -> Iterator[tuple[str, bytes]]:
    """The wanted members, in the cabinet's order. They lie in a file without a name meanwhile, never in memory whole.

    Raises Unreadable.
    """
    with tempfile.TemporaryFile(prefix="yendo-") as store:
        for name, begin, size in _Unpacking(data, store, wanted, promised).run():
            store.seek(begin)
            yield name, store.read(size)


class _Unpacking:
    """One unpacking. What goes wrong in a callback is kept and raised when the library has returned."""

    def __init__(self, data: BinaryIO, store: IO[bytes], wanted: set[str], promised: Mapping[str, int]) -> None:
        self.data, self.store, self.promised = data, store, promised
        self.wanted = {_stored(name): name for name in wanted}
        self.found: list[tuple[str, int, int]] = []
        self.name, self.begin, self.limit = "", 0, 0
        self.trouble: Exception | None = None
        self.memory: dict[int, Any] = {}

    def run(self) -> list[tuple[str, int, int]]:
        """The name of each member that was unpacked, where it lies in the store, its bytes."""
        assert sys.platform == "win32"
        call = ctypes.CFUNCTYPE
        size, pointer, number = ctypes.c_ssize_t, ctypes.c_void_p, ctypes.c_int
        callbacks = (
            call(pointer, ctypes.c_uint32)(self.allocate),
            call(None, pointer)(self.free),
            call(size, ctypes.c_char_p, number, number)(self.open),
            call(ctypes.c_uint, size, pointer, ctypes.c_uint)(self.read),
            call(ctypes.c_uint, size, pointer, ctypes.c_uint)(self.write),
            call(number, size)(self.close),
            call(ctypes.c_int32, size, ctypes.c_int32, number)(self.seek),
        )
        notified = call(size, number, ctypes.POINTER(_Notification))(self.notified)
        library = ctypes.CDLL("cabinet.dll", winmode=0x800)  # from the system's own folder, whatever lies about
        error = _Error()
        library.FDICreate.restype = pointer
        context = library.FDICreate(*callbacks, number(-1), ctypes.byref(error))
        if not context:
            raise Unreadable("cabinet.dll could not begin")
        try:
            good = library.FDICopy(pointer(context), b"cabinet", b"", number(0), notified, None, None)
        finally:
            library.FDIDestroy(pointer(context))
        if self.trouble is not None:
            raise self.trouble
        if not good:
            why = _ERRORS.get(error.oper, f"error {error.oper}")
            raise Unreadable(f"the cabinet's data is damaged: cabinet.dll says that {why}")
        return self.found

    def allocate(self, size: int) -> int:
        try:
            block = ctypes.create_string_buffer(size)
        except (MemoryError, ValueError):
            return 0
        self.memory[ctypes.addressof(block)] = block
        return ctypes.addressof(block)

    def free(self, address: int) -> None:
        self.memory.pop(address, None)

    def open(self, name: bytes, flags: int, mode: int) -> int:
        self.data.seek(0)
        return _SOURCE

    def read(self, handle: int, target: int, size: int) -> int:
        try:
            piece = self.data.read(size)
        except (OSError, ValueError) as error:
            self.trouble = Unreadable(f"the cabinet cannot be read: {error}")
            return 0xFFFFFFFF
        ctypes.memmove(target, piece, len(piece))
        return len(piece)

    def write(self, handle: int, source: int, size: int) -> int:
        if self.store.tell() - self.begin + size > self.limit:
            self.trouble = Unreadable(f"{self.name}: unpacks to more than the {self.limit} bytes stated")
            return 0xFFFFFFFF
        try:
            return self.store.write(ctypes.string_at(source, size))
        except OSError as error:
            self.trouble = error
            return 0xFFFFFFFF

    def close(self, handle: int) -> int:
        return 0

    def seek(self, handle: int, offset: int, whence: int) -> int:
        try:
            return self.data.seek(offset, (io.SEEK_SET, io.SEEK_CUR, io.SEEK_END)[whence])
        except (OSError, ValueError, IndexError):
            return -1

    def notified(self, kind: int, told: Any) -> int:
        if kind == _COPY_FILE:
            name = self.wanted.get(told.contents.first)
            if name is None:
                return 0
            self.store.seek(0, io.SEEK_END)
            self.name, self.begin, self.limit = name, self.store.tell(), self.promised.get(name, 0)
            return _TARGET
        if kind == _CLOSE_FILE_INFO:
            self.found.append((self.name, self.begin, self.store.tell() - self.begin))
            return 1
        return -1 if kind == _NEXT_CABINET else 0


def _stored(name: str) -> bytes:
    """A name as it stands in the cabinet: UTF-8 where the code page has no such letter."""
    try:
        return name.encode("cp1252")
    except UnicodeEncodeError:
        return name.encode()
