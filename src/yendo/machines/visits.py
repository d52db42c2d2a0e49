"""When each computer was last put back, and what was last proved on it: a small file in the cache."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import msgspec

from yendo import atomic, host_os

NAME = "visits.json"


class Visit(msgspec.Struct, frozen=True):
    """The last times, as ISO 8601 in UTC or nothing; ``windows`` is what the machine called itself."""

    put_back: str = ""
    proved: str = ""
    what: str = ""
    windows: str = ""


def known(cache: Path) -> dict[str, Visit]:
    """Every computer that was visited, by its name; none where the file is missing or of another form."""
    try:
        return msgspec.json.decode((cache / NAME).read_bytes(), type=dict[str, Visit])
    except (OSError, msgspec.MsgspecError):
        return {}


def note(cache: Path, name: str, what: str, windows: str, *, put_back: bool) -> None:
    """Keeps that something was proved on a computer now, which was put back before it or not."""
    now = datetime.now(UTC).isoformat(timespec="seconds")
    cache.mkdir(parents=True, exist_ok=True)
    with host_os.locked(cache / f"{NAME}.lock"):
        found = known(cache)
        before = found.get(name, Visit())
        found[name] = Visit(now if put_back else before.put_back, now, what, windows)
        atomic.write(cache / NAME, msgspec.json.format(msgspec.json.encode(found), indent=1) + b"\n")
