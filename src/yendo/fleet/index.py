"""What lies in a delivery folder: a signed index of orders, a signed list of who may sign it, and files by content.

Both are text, a line each with its fields between tabs, and a last line with the signature over what stands above it (a
detached message, RFC 5652). So one file is read at once, and is whole or not at all. Times are in UTC as
``2026-11-30T12:00:00Z``.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import shutil
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path, PurePosixPath

import msgspec

from yendo import atomic, digest
from yendo.errors import Unreadable, Usage
from yendo.fleet.waves import When
from yendo.formats.fields import escape, unescape
from yendo.installers.judging import judged_message
from yendo.package import manifest as form
from yendo.package import signing
from yendo.package.signing import SignerIdentity

INDEX, SIGNERS, CONTENT, REPORTS = "index.txt", "signers.txt", "content", "reports"
MOST = 8 << 20  # bytes of an index
_SIGNATURE = b"signature\t"


class StoredContent(msgspec.Struct, frozen=True):
    """A file by what is in it."""

    sha256: str
    size: int

    @property
    def place(self) -> str:
        """Where it lies below the folder."""
        return f"{CONTENT}/{self.sha256[:2]}/{self.sha256}"


class Order(msgspec.Struct, frozen=True, kw_only=True):
    """One thing to be done, on the computers of a list. ``after`` is an order that has to have ended well there before,
    0 for none; ``run`` names the package's content as the runner's journal does.
    """

    number: int
    verb: str
    package: str
    version: str
    revision: int
    run: str
    name: str
    machines: StoredContent
    files: StoredContent
    offered: bool = False
    after: int = 0


class Index(msgspec.Struct, frozen=True, kw_only=True):
    """``every`` is how many minutes lie between two looks; ``windows`` are when computers may be touched, by number."""

    version: int
    made: datetime
    expires: datetime
    reports: str = ""
    fetcher: StoredContent | None = None
    windows: tuple[When, ...] = ()
    orders: tuple[Order, ...] = ()


class ListedComputer(msgspec.Struct, frozen=True):
    """A computer of an order: from when on, its window's number, and until which local day and how often a person there
    may put it off, where that is said.
    """

    computer: str
    ready: datetime | None = None
    window: int = 0
    by: date | None = None
    put_off: int | None = None


class SignersList(msgspec.Struct, frozen=True, kw_only=True):
    """Who may sign an index, by the thumbprints of their certificates; ``roots`` are who may sign the next such list,
    where it shall be somebody else than those who signed this one.
    """

    version: int
    made: datetime
    expires: datetime
    signers: tuple[str, ...]
    roots: tuple[str, ...] = ()


# --- text -------------------------------------------------------------------------------------------------------------


def written(moment: datetime | None) -> str:
    return "" if moment is None else moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def index_text(index: Index) -> bytes:
    """An index without its signature."""
    rows: list[Sequence[object]] = [
        ("yendo-index", 1),
        ("version", index.version),
        ("made", written(index.made)),
        ("expires", written(index.expires)),
        ("reports", index.reports),
    ]
    if index.fetcher:
        rows.append(("fetcher", index.fetcher.sha256, index.fetcher.size))
    for number, when in enumerate(index.windows):
        closed = ",".join(day.isoformat() for day in when.closed)
        rows.append(("window", number, when.hours or "", ",".join(when.days), closed))
    for one in index.orders:
        kind = "offered" if one.offered else "required"
        rows.append(
            ("order", one.number, one.verb, one.package, one.version, one.revision, one.run, kind, one.machines.sha256,
             one.machines.size, one.files.sha256, one.files.size, one.after or "", one.name)
        )  # fmt: skip
    return _lines(rows)


def signers_text(stated: SignersList) -> bytes:
    """A list of signers without its signature."""
    return _lines(
        [
            ("yendo-signers", 1),
            ("version", stated.version),
            ("made", written(stated.made)),
            ("expires", written(stated.expires)),
            *(("signer", one) for one in stated.signers),
            *(("root", one) for one in stated.roots),
        ]
    )


def machines_text(listed: Iterable[ListedComputer]) -> bytes:
    """The computers of an order, a line each."""
    return _lines(
        [
            (one.computer.lower(), written(one.ready), one.window, f"{one.by}T23:59" if one.by else "",
             "" if one.put_off is None else one.put_off)
            for one in listed
        ]
    )  # fmt: skip


def _lines(rows: Iterable[Sequence[object]]) -> bytes:
    return "".join("\t".join(escape(str(cell)) for cell in row) + "\n" for row in rows).encode()


def signed(text: bytes, who: SignerIdentity, name: str) -> bytes:
    """A text with the line that signs it. Raises as ``signing.message``."""
    return text + _SIGNATURE + base64.b64encode(signing.message(who, text, what=name)) + b"\n"


def opened(data: bytes, name: str, trusted: frozenset[str] | None = None) -> list[list[str]]:
    """The lines of a signed text, by their fields. ``trusted`` are thumbprints, None where anybody may have signed.

    Raises Unreadable where it is not signed, or by nobody of these.
    """
    if len(data) > MOST:
        raise Unreadable(f"{name} is larger than {MOST >> 20} MB")
    at = data.rfind(b"\n" + _SIGNATURE) + 1
    if at < 1:
        raise Unreadable(f"{name} is not signed")
    text = data[:at]
    try:
        raw = base64.b64decode(data[at + len(_SIGNATURE) :].strip(), validate=True)
        lines = [[unescape(cell) for cell in line.split("\t")] for line in text.decode().split("\n")[:-1]]
    except (binascii.Error, UnicodeDecodeError) as error:
        raise Unreadable(f"{name} cannot be read: {error}") from error
    judged = judged_message(raw, text, name)
    if judged.problems:
        raise Unreadable(f"{name}: {'; '.join(judged.problems)}")
    if trusted is not None and judged.thumbprint not in trusted:
        raise Unreadable(f"{name} is signed by {judged.thumbprint}, which nobody vouched for")
    return lines


def read_index(data: bytes, trusted: frozenset[str] | None = None) -> Index:
    """Raises Unreadable."""
    lines = opened(data, INDEX, trusted)
    try:
        head = _head(lines, "yendo-index")
        windows, orders, fetcher = [], [], None
        for cells in lines[1:]:
            if cells[0] == "window":
                words = {"hours": cells[2] or None, "days": cells[3].split(",") if cells[3] else []}
                words["closed"] = cells[4].split(",") if cells[4] else []
                windows.append(msgspec.convert(words, When, strict=False))
            elif cells[0] == "fetcher":
                fetcher = StoredContent(cells[1], int(cells[2]))
            elif cells[0] == "order":
                orders.append(
                    Order(
                        number=int(cells[1]), verb=cells[2], package=cells[3], version=cells[4], revision=int(cells[5]),
                        run=cells[6], offered=cells[7] == "offered", machines=StoredContent(cells[8], int(cells[9])),
                        files=StoredContent(cells[10], int(cells[11])), after=int(cells[12] or 0), name=cells[13],
                    )
                )  # fmt: skip
        return Index(
            version=int(head["version"]), made=read_time(head["made"]), expires=read_time(head["expires"]),
            reports=head.get("reports", ""), fetcher=fetcher, windows=tuple(windows), orders=tuple(orders),
        )  # fmt: skip
    except (ValueError, KeyError, IndexError, msgspec.ValidationError) as error:
        raise Unreadable(f"{INDEX} is malformed: {error}") from error


def read_signers(data: bytes, trusted: frozenset[str] | None = None) -> SignersList:
    """Raises Unreadable."""
    lines = opened(data, SIGNERS, trusted)
    try:
        head = _head(lines, "yendo-signers")
        named = {kind: tuple(cells[1] for cells in lines if cells[0] == kind) for kind in ("signer", "root")}
        return SignersList(
            version=int(head["version"]), made=read_time(head["made"]), expires=read_time(head["expires"]),
            signers=named["signer"], roots=named["root"],
        )  # fmt: skip
    except (ValueError, KeyError, IndexError) as error:
        raise Unreadable(f"{SIGNERS} is malformed: {error}") from error


def _head(lines: Sequence[Sequence[str]], kind: str) -> Mapping[str, str]:
    if not lines or list(lines[0]) != [kind, "1"]:
        raise ValueError(f"it does not begin as {kind} of the form 1")
    return {cells[0]: cells[1] for cells in lines[1:] if len(cells) == 2}


def read_time(text: str) -> datetime:
    """A time in UTC. Raises ValueError."""
    found = datetime.fromisoformat(text)
    if found.tzinfo is None:
        raise ValueError(f"{text} does not say in which zone it is")
    return found


# --- the folder -------------------------------------------------------------------------------------------------------


class DeliveryFolder:
    """A folder that any web server or share can hold. What is new is there before anything names it."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def has(self, content: StoredContent) -> bool:
        """Whether it is there in its size; its name says what is in it."""
        path = self.path / content.place
        return path.is_file() and path.stat().st_size == content.size

    def put(self, data: bytes) -> StoredContent:
        found = StoredContent(hashlib.sha256(data).hexdigest(), len(data))
        if not self.has(found):
            atomic.write(self._place(found), data)
        return found

    def put_file(self, source: Path) -> StoredContent:
        found = StoredContent(digest.of_file(source), source.stat().st_size)
        if not self.has(found):
            with atomic.writing(self._place(found)) as target, source.open("rb") as file:
                shutil.copyfileobj(file, target, 1 << 20)
        return found

    def _place(self, content: StoredContent) -> Path:
        place = self.path / content.place
        place.parent.mkdir(parents=True, exist_ok=True)
        return place

    def put_package(self, package: Path) -> StoredContent:
        """Puts a package's files there; the content that lists them: hash, size and path of each. What is there already
        by the hash in the package's manifest is not read again.
        """
        stated = {file.path: StoredContent(file.sha256, file.size) for file in form.read(package).files}
        rows = []
        for path in sorted(package.rglob("*")):
            if path.is_file():
                name = path.relative_to(package).as_posix()
                known = stated.get(name)
                one = known if known and self.has(known) else self.put_file(path)
                rows.append((one.sha256, one.size, name))
        return self.put(_lines(rows))

    def get(self, content: StoredContent) -> bytes:
        """Raises Unreadable where it is not there, or is something else."""
        try:
            data = (self.path / content.place).read_bytes()
        except OSError as error:
            raise Unreadable(f"{content.place} cannot be read: {error.strerror or error}") from error
        if len(data) != content.size or hashlib.sha256(data).hexdigest() != content.sha256:
            raise Unreadable(f"{content.place} is something else than its name says")
        return data

    def files(self, content: StoredContent) -> Iterator[tuple[StoredContent, str]]:
        """What a package has, by the content that lists it. Raises Unreadable for a path that leads out of it."""
        for line in self.get(content).decode().splitlines():
            sha256, size, name = line.split("\t")
            path = PurePosixPath(unescape(name))
            if path.is_absolute() or ".." in path.parts or ":" in name:
                raise Unreadable(f"a file of the package lies outside of it: {path}")
            yield StoredContent(sha256, int(size)), str(path)

    def needed(self, index: Index) -> dict[str, StoredContent]:
        """All contents that an index names, by their places. Raises Unreadable."""
        found = [index.fetcher] if index.fetcher else []
        for order in index.orders:
            found += [order.machines, order.files, *(one for one, _ in self.files(order.files))]
        return {one.place: one for one in found}

    def incomplete(self, index: Index) -> list[str]:
        """The contents that an index names and that are not there, or not in their size."""
        return [place for place, one in self.needed(index).items() if not self.has(one)]

    def take_over(self, other: DeliveryFolder, index: Index) -> None:
        """Copies what an index names out of another folder; not the index itself."""
        for content in other.needed(index).values():
            if not self.has(content):
                self.put_file(other.path / content.place)

    def index(self) -> Index | None:
        """The index that is there; whoever signed it."""
        path = self.path / INDEX
        return read_index(path.read_bytes()) if path.is_file() else None

    def signers(self) -> SignersList | None:
        path = self.path / SIGNERS
        return read_signers(path.read_bytes()) if path.is_file() else None

    def tidy(self, index: Index) -> int:
        """Takes away contents that no order names any more; how many."""
        keep, gone = set(self.needed(index)), 0
        for path in sorted((self.path / CONTENT).rglob("*")):
            if path.is_file() and path.relative_to(self.path).as_posix() not in keep:
                path.unlink()
                gone += 1
        return gone


def publish(folders: Sequence[DeliveryFolder], index: Index, who: SignerIdentity) -> None:
    """Signs an index and puts it into folders, the first of which has what it names. All of them have all of it before
    one has the index; what no order names any more goes. Raises Usage.
    """
    first, *others = folders
    if missing := first.incomplete(index):
        raise Usage(f"{missing[0]} is not in {first.path}, nor are {len(missing) - 1} more; put the packages there")
    data = signed(index_text(index), who, INDEX)
    if len(data) > MOST:
        raise Usage(f"the index would have {len(data) >> 20} MB; at most {MOST >> 20} are read")
    for other in others:
        other.take_over(first, index)
        atomic.write(other.path / SIGNERS, (first.path / SIGNERS).read_bytes())
    for one in folders:
        atomic.write(one.path / INDEX, data)
        one.tidy(index)
