"""Which family a program belongs to, by what is in it and behind it: one module a family, asked in turn.

A family's module says ``find(file, image)``: None, or what it found, with the evidence. The order is
from the mark that is hardest to have by chance to the one that is easiest.
"""

from __future__ import annotations

from typing import BinaryIO

from yendo.formats.pe import Image
from yendo.installers import answers_exe, archive_exe, carrier_exe, compiled_script_exe, plain_exe, script_exe
from yendo.installers.family import Family, FoundContent

MODULES: tuple[Family, ...] = (carrier_exe, script_exe, compiled_script_exe, answers_exe, archive_exe, plain_exe)


def recognise(file: BinaryIO, image: Image) -> tuple[Family, FoundContent]:
    """The family's module and what it found; ``plain-exe`` where no other does.

    Raises Unreadable where a mark makes no sense.
    """
    for module in MODULES:
        if found := module.find(file, image):
            return module, found
    raise AssertionError("plain-exe takes every program")
