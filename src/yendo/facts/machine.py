"""What run conditions ask of a machine."""

from __future__ import annotations

from datetime import datetime

import msgspec


class Facts(msgspec.Struct, frozen=True, kw_only=True):
    """A machine at one moment. None is what whoever looked could not know; a condition on it is then not judged.

    ``windows``, ``shell`` and ``dotnet`` are versions; ``memory`` and ``disks`` (free, by drive letter) in bytes;
    ``power`` is mains or battery; ``network`` none, metered or unmetered; ``domain`` "" where it is in none;
    ``people`` counts who is logged on; ``busy`` says that a presentation or a full-screen program runs;
    ``now`` is local time as ``2026-11-23T17:40``.
    """

    windows: str
    architecture: str
    edition: str | None = None
    language: str | None = None
    memory: int | None = None
    disks: dict[str, int] = {}
    power: str | None = None
    network: str | None = None
    domain: str | None = None
    people: int | None = None
    busy: bool | None = None
    shell: str | None = None
    dotnet: str | None = None
    multi_session: bool | None = None
    computer: str = ""
    now: str = "2026-11-23T09:00"

    @property
    def time(self) -> datetime:
        return datetime.fromisoformat(self.now)


USUAL = Facts(  # noqa: S604
    windows="10.0.19045.2965",
    architecture="x64",
    edition="Enterprise",
    language="en-GB",
    memory=8 << 30,
    disks={"C": 100 * 10**9},
    power="mains",
    network="unmetered",
    domain="marrowby.example",
    people=0,
    busy=False,
    shell="5.1.19041.1",
    dotnet="4.8.4084",
    multi_session=False,
    computer="MARROWBY-01",
)
"""The simulated machine's own."""
