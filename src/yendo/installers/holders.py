"""What an installer comes in: a disc image, or an archive in which a vendor has packed what belongs together."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Iterator
from pathlib import Path

from yendo import digest
from yendo.errors import NotCovered, Unreadable, Usage
from yendo.installers import packed, recognise
from yendo.installers.images import DiscImage, Holder, is_image
from yendo.installers.packed import Packed


@contextlib.contextmanager
def holder_of(path: Path) -> Iterator[DiscImage | Packed | None]:
    """A file that others lie in, opened; None where it is neither a disc image nor an archive. Raises Unreadable."""
    if is_image(path):
        with DiscImage(path) as image:
            yield image
    elif kind := packed.kind_of(path):
        with packed.Packed(path, kind) as archive:
            yield None if archive.is_app else archive
    else:
        yield None


@contextlib.contextmanager
def opened(path: Path, inside: str | None = None) -> Iterator[tuple[Path, str]]:
    """An installer as a file, and where it came from: itself, or ``inside`` an image or archive, taken out with what it
    needs beside it.

    Raises Usage where it is not clear which one is meant, Unreadable.
    """
    with holder_of(path) as holder, tempfile.TemporaryDirectory(prefix="yendo-image-") as folder:
        if holder is None:
            if inside:
                raise Usage(f"{path.name} is no disc image and no archive, so nothing lies inside it")
            yield path, ""
            return
        name = _meant(holder, inside)
        top = Path(folder)
        root = name.rpartition("/")[0]
        origin = f"{path.name} (SHA-256 {digest.of_file(path)[:16]}…), {name}"
        if not isinstance(holder, DiscImage):  # somebody packed together what belongs together
            holder.extract((one.path for one in holder.entries() if not root or one.path.startswith(root + "/")), top)
            yield top / name, origin
            return
        # empty stand-ins show the installer what lies beside it; only what it names is then really taken out
        beside = [entry for entry in holder.entries() if not root or entry.path.startswith(root + "/")]
        for entry in beside:
            target = top / entry.path
            target.parent.mkdir(parents=True, exist_ok=True)
            with target.open("wb") as file:
                file.truncate(entry.size)
        wanted = {name, *_needed(holder, name, top)}
        for entry in beside:
            if entry.path not in wanted:
                (top / entry.path).unlink()
            elif entry.path != name:  # which is there already, to be read
                holder.extract(entry.path, top / entry.path)
        yield top / name, origin


def _meant(image: Holder, inside: str | None) -> str:
    if inside:
        exact = [
            entry.path
            for entry in image.entries()
            if entry.path.lower() == inside.replace("\\", "/").lstrip("/").lower()
        ]
        if exact:
            return exact[0]
    found = image.installers()  # looks into every one of them
    if inside:
        raise Usage(
            f"{image.path.name} has no file {inside}; its installers: "
            f"{', '.join(entry.path for entry in found) or 'none'}"
        )
    if len(found) != 1:
        raise Usage(
            f"{image.path.name} holds {len(found)} installers; say which by --inside: "
            f"{', '.join(entry.path for entry in found)}"
        )
    return found[0].path


def _needed(image: DiscImage, name: str, top: Path) -> list[str]:
    """What an installer database names beside itself."""
    image.extract(name, top / name)
    try:
        account = recognise.read(top / name)
    except (Unreadable, NotCovered):
        return []
    media = account.payload.media if account.payload else ()
    folder = (top / name).parent
    return [
        (folder / medium.path).relative_to(top).as_posix()
        for medium in media
        if medium.kind != "embedded" and medium.path
    ]
