"""Opening an installer as a command line means it: with its transforms and patches laid over it."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from yendo.errors import Unreadable
from yendo.formats.msi import Database
from yendo.formats.msi.overlay import SUPPRESSED_BY, Overlay
from yendo.formats.msi.patch import Patch
from yendo.formats.msi.transform import Transform, read, read_storage
from yendo.installers.msi.fitting import fit_patch, made_for, patched, validation

# Source: the Windows Installer's error codes.
NO_SUCH_TRANSFORM, TRANSFORM_REFUSED, NO_SUCH_PATCH, PATCH_REFUSED = 1624, 1624, 1635, 1642


class Refused(Exception):
    """The Windows Installer ends with this code before it does anything."""

    def __init__(self, code: int, message: str) -> None:
        super().__init__(message)
        self.code, self.message = code, message


def embedded(base: Database, name: str) -> Transform:
    """A transform that lies inside the database. Raises Unreadable where there is none of the name."""
    storage = next((entry for entry in base.container.entries() if entry.is_storage and entry.name == name), None)
    if storage is None:
        raise Unreadable(f"the installer holds no transform {name!r}")
    return read_storage(base.container, storage, base)


def apply_transforms(base: Database, sources: Iterable[Path | str], *, strict: bool = True) -> Overlay:
    """``base`` with transforms in order: files, or names of embedded ones. Raises Refused as the installer does."""
    layers: list[Transform] = []
    at: Database = base
    for source in sources:
        try:
            transform = embedded(base, source) if isinstance(source, str) else read(source, at)
        except Unreadable as error:
            raise Refused(NO_SUCH_TRANSFORM, f"the transform cannot be read: {error}") from error
        target = made_for(transform.summary)
        reasons = validation(at, target) if target and strict else []
        if reasons:
            raise Refused(
                TRANSFORM_REFUSED,
                f"the transform {source if isinstance(source, str) else source.name} does not fit: "
                f"{'; '.join(reasons)}",
            )
        layers.append(transform)
        after = Overlay(base, layers)
        flags = transform.summary.characters or 0
        lost = [problem for problem in Overlay(at, [transform]).problems if not flags & SUPPRESSED_BY[problem.kind]]
        if lost and strict:
            raise Refused(
                TRANSFORM_REFUSED,
                f"the transform {source if isinstance(source, str) else source.name} has no target for {lost[0]}",
            )
        at = after
    return Overlay(base, layers)


@contextlib.contextmanager
def layered(package: Path, transforms: Sequence[Path | str] = (), patches: Sequence[Path] = ()) -> Iterator[Database]:
    """A package with everything laid over it. Raises Refused, Unreadable."""
    with contextlib.ExitStack() as stack:
        base: Database = stack.enter_context(Database(package))
        if transforms:
            base = apply_transforms(base, transforms)
        for path in patches:
            patch = stack.enter_context(Patch(path))
            found = patched(base, patch)
            if found is None:
                raise Refused(
                    PATCH_REFUSED, f"the patch {path.name} does not fit: {'; '.join(fit_patch(base, patch).reasons)}"
                )
            base = found
        yield base


def named(given: Mapping[str, str], find: Callable[[str], Path | None]) -> tuple[list[Path | str], list[Path]]:
    """What ``TRANSFORMS`` and ``PATCH`` of a command line name. Raises Refused where a file is not there."""
    transforms: list[Path | str] = []
    for name in filter(None, (part.strip() for part in given.get("TRANSFORMS", "").lstrip("@|").split(";"))):
        path = name[1:] if name.startswith(":") else find(name)
        if path is None:
            raise Refused(NO_SUCH_TRANSFORM, f"the transform {name} is not there")
        transforms.append(path)
    patches: list[Path] = []
    for name in filter(None, (part.strip() for part in given.get("PATCH", "").split(";"))):
        found = find(name)
        if found is None:
            raise Refused(NO_SUCH_PATCH, f"the patch {name} is not there")
        patches.append(found)
    return transforms, patches


class Layers(msgspec.Struct, frozen=True):
    """What a product was installed from, which the installer keeps: the database, its transforms, its patches."""

    source: Path
    transforms: tuple[Path | str, ...] = ()
    patches: tuple[Path, ...] = ()

    def opened(self) -> contextlib.AbstractContextManager[Database]:
        return layered(self.source, self.transforms, self.patches)
