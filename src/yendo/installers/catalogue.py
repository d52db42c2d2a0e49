"""A whole share of installers: one row a file, read in parallel, and what stands out among them."""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

from yendo import digest, texts
from yendo.errors import NotCovered, Usage, YendoError
from yendo.facts.versions import Version
from yendo.host_os.several import in_processes
from yendo.installers import recognise
from yendo.installers.account import InstallerAccount

SCHEMA = "yendo.catalogue/1"
ENDINGS = (".exe", ".msi", ".msp", ".mst", ".msix", ".appx", ".msixbundle", ".cab", ".msu", ".pkg", ".dmg")
MAX_FILES = 100_000


class NoInstallers(Usage):
    """A folder without any."""


class CatalogueRow(msgspec.Struct, frozen=True):
    """One file of the share. ``path`` below the share, ``size`` in bytes; ``trouble`` is why it could not be read."""

    path: str
    size: int
    sha256: str
    family: str | None = None
    name: str | None = None
    version: str | None = None
    publisher: str | None = None
    architecture: str | None = None
    language: str | None = None
    product_code: str | None = None
    upgrade_code: str | None = None
    signed: bool | None = None
    signed_by: str | None = None
    silent: str | None = None
    confidence: str | None = None
    trouble: str | None = None


class CatalogueSummary(msgspec.Struct, frozen=True):
    """``duplicates`` are groups of paths with the same bytes; ``older`` pairs an older file with the newest of its
    line.
    """

    families: dict[str, int]
    unsigned: tuple[str, ...]
    duplicates: tuple[tuple[str, ...], ...]
    older: tuple[tuple[str, str], ...]
    unreadable: tuple[tuple[str, str], ...]


def files(share: Path) -> list[Path]:
    """The files of a share that look like installers, by their endings. Raises NoInstallers, Usage for too many."""
    found = sorted(
        path for path in share.rglob("*") if path.suffix.lower() in ENDINGS and path.is_file() and not path.is_symlink()
    )
    if not found:
        raise NoInstallers(f"{share} holds no file that ends like an installer ({', '.join(ENDINGS)})")
    if len(found) > MAX_FILES:
        raise Usage(f"{share} holds more than {MAX_FILES} installers; name a part of it")
    return found


def row(path: Path, share: Path) -> CatalogueRow:
    """Reads one file; what goes wrong is told in the row. Raises OSError."""
    place, size, sha256 = _shown(path, share), path.stat().st_size, digest.of_file(path)
    try:
        return _of_account(place, size, sha256, recognise.read(path))
    except NotCovered as error:
        try:
            return CatalogueRow(place, size, sha256, recognise.recognise(path))
        except YendoError:
            return CatalogueRow(place, size, sha256, trouble=texts.writable(str(error)))
    except YendoError as error:
        return CatalogueRow(place, size, sha256, trouble=texts.writable(str(error)))


def _of_account(place: str, size: int, sha256: str, account: InstallerAccount) -> CatalogueRow:
    identity, install = account.identity, account.silent.install
    return CatalogueRow(
        place,
        size,
        sha256,
        account.family,
        identity.name,
        identity.version,
        identity.publisher,
        identity.architecture,
        identity.language,
        identity.product_code,
        identity.upgrade_code,
        account.signature.signed if account.signature else None,
        account.signature.signer if account.signature and account.signature.signed else None,
        install.command if install else None,
        install.confidence if install else None,
    )


def _job(given: tuple[str, str]) -> CatalogueRow:
    path, share = Path(given[0]), Path(given[1])
    try:
        return row(path, share)
    except OSError as error:
        return CatalogueRow(_shown(path, share), 0, "", trouble=str(error.strerror))
    except RecursionError:
        return CatalogueRow(_shown(path, share), path.stat().st_size, "", trouble="nested too deeply")
    except Exception as error:  # one file must not stop a share; that it is ours and not the file's is said
        return CatalogueRow(
            _shown(path, share),
            path.stat().st_size,
            "",
            trouble=f"a defect in Yendo ({type(error).__name__}: {error}), please send the file in",
        )


def _shown(path: Path, share: Path) -> str:
    """The path below the share as text: a name that is no text in the system's coding is shown as far as it is."""
    return texts.writable(path.relative_to(share).as_posix())


def rows(
    share: Path, workers: int | None = None, tell: Callable[[str], object] = lambda path: None
) -> Iterator[CatalogueRow]:
    """The rows of a share, in the order of their paths, read by several processes at once."""
    jobs = [(str(path), str(share)) for path in files(share)]
    count = max(1, min(workers or os.cpu_count() or 1, len(jobs)))
    for found in in_processes(_job, jobs, count):
        tell(found.path)
        yield found


def summary(found: list[CatalogueRow]) -> CatalogueSummary:
    """What stands out among the rows."""
    families = Counter(entry.family or "unreadable" for entry in found)
    same = defaultdict(list)
    for entry in found:
        if entry.sha256:
            same[entry.sha256].append(entry.path)
    return CatalogueSummary(
        dict(families.most_common()),
        tuple(entry.path for entry in found if entry.signed is False),
        tuple(tuple(paths) for paths in same.values() if len(paths) > 1),
        tuple(_older(found)),
        tuple((entry.path, entry.trouble) for entry in found if entry.trouble),
    )


def _order(version: str) -> tuple[int, ...] | None:
    """A version to sort by; versions with commas and spaces are common in version resources."""
    try:
        return Version.parse(version.replace(",", ".").replace(" ", "")).fields
    except ValueError:
        return None


def _older(found: list[CatalogueRow]) -> Iterator[tuple[str, str]]:
    """Files of one line: the same upgrade code, or the same name, publisher, family and architecture."""
    lines = defaultdict(list)
    for entry in found:
        order = _order(entry.version) if entry.version else None
        if order is not None and entry.name:
            lines[entry.upgrade_code or (entry.name, entry.publisher, entry.family), entry.architecture].append(
                (order, entry.path)
            )
    for members in lines.values():
        newest = max(members)
        yield from ((path, newest[1]) for order, path in sorted(members) if order < newest[0])
