"""Installation media of Windows: a disc image or the folder it was unpacked to. What they bring, and what a computer
must have so that they upgrade it.

Editions are what the image file below ``sources`` says of itself; start-up images (``boot.wim``) are no editions.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import BinaryIO

import msgspec

from yendo.errors import Unreadable
from yendo.formats import wim
from yendo.formats.wim import WimFile, WimImage
from yendo.installers.images import DiscImage, is_image
from yendo.platforms.windows import systems
from yendo.walk import files_below

_Opened = Callable[[str], AbstractContextManager[BinaryIO]]
_INSTALL = ("sources/install.wim", "sources/install.esd", "sources/install.swm")
_START = "sources/boot.wim"
_SETUP = ("setup.exe", "sources/setup.exe", "sources/setupprep.exe")


class SystemMedia(msgspec.Struct, frozen=True, kw_only=True):
    """``images`` are the editions, ``starts`` the images a computer may start from; ``image_file`` holds the editions.
    ``missing`` are parts of a split image file that are not there, ``setup`` the program that begins an upgrade, empty
    where there is none. ``files`` and ``size`` in bytes count all that is on them.
    """

    file: str
    image_file: str
    image: WimFile
    starts: tuple[WimImage, ...] = ()
    setup: str = ""
    missing: tuple[str, ...] = ()
    files: int = 0
    size: int = 0

    @property
    def images(self) -> tuple[WimImage, ...]:
        return tuple(one for one in self.image.images if one.build)

    @property
    def build(self) -> str:
        """The build of all editions; empty where they differ."""
        found = {one.build.split(".")[2] for one in self.images if one.build.count(".") >= 2}
        return found.pop() if len(found) == 1 else ""

    @property
    def builds(self) -> tuple[str, ...]:
        """The builds that they may bring: those that have the files of the one they name, and differ by a switch, are
        described alike.
        """
        return (self.build, *map(str, systems.sharing().get(int(self.build), ()))) if self.build else ()

    def fits(self, build: str) -> bool:
        """Whether a computer may have this build once they have upgraded it; also where they do not say."""
        return not self.builds or build in self.builds

    @property
    def condition(self) -> str:
        """Which computers they upgrade, as lines of a plan's ``[when]``: an older build, the processor, an edition and
        a language that are on them. What they do not say is left out.
        """
        own = self.images
        lines = [f'os = "<10.0.{max(self.builds, key=int)}"'] if self.build else []
        for key, values in (
            ("architecture", [one.processor for one in own]),
            ("edition", [one.edition for one in own]),
            ("language", [language for one in own for language in one.languages]),
        ):
            if some := sorted({value for value in values if value}):
                words = ", ".join(f'"{value}"' for value in some)
                lines.append(f"{key} = [{words}]")
        return "\n".join(lines)


def read(path: Path) -> SystemMedia | None:
    """Media by a disc image or a folder; None where a file or folder is none. Raises Unreadable."""
    if path.is_dir():
        found = dict(files_below(path))
        sizes = {name: one.stat().st_size for name, one in found.items()}
        return _read(path.name, sizes, lambda name: found[name].open("rb"))
    if not is_image(path):
        return None
    with DiscImage(path) as image:
        return of_image(image)


def of_image(image: DiscImage) -> SystemMedia | None:
    """The same of a disc image that is open."""
    return _read(image.path.name, {one.path: one.size for one in image.entries()}, image.opened)


def _read(file: str, sizes: dict[str, int], opened: _Opened) -> SystemMedia | None:
    names = {name.lower().replace("\\", "/"): name for name in sizes}
    own = next((name for name in _INSTALL if name in names), "")
    if not own:
        return None
    with opened(names[own]) as inner:
        image = _image(inner, own)
    starts: tuple[WimImage, ...] = ()
    if _START in names:
        with opened(names[_START]) as inner:
            starts = _image(inner, _START).images
    parts = [own, *(f"sources/install{number}.swm" for number in range(2, image.parts + 1))]
    return SystemMedia(
        file=file, image_file=own, image=image, starts=starts, setup=next((one for one in _SETUP if one in names), ""),
        missing=tuple(one for one in parts if one not in names), files=len(sizes), size=sum(sizes.values()),
    )  # fmt: skip


def _image(file: BinaryIO, name: str) -> WimFile:
    try:
        return wim.read(file)
    except Unreadable as error:
        raise Unreadable(f"{name}: {error}") from error
