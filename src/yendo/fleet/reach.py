"""How the computers of an office are reached over SSH, by whoever pushes or looks."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from yendo.machines.addresses import Address
from yendo.machines.live.ssh import SshLine

DOOR = 5.0  # seconds in which a port answers


class SshReach(msgspec.Struct, frozen=True, kw_only=True):
    """``known`` are the host keys, as OpenSSH keeps them; ``key`` may have a certificate beside it
    (``KEY-cert.pub``). ``patience`` is how long one computer may take, in seconds; ``addresses`` are by computer.
    """

    user: str
    key: Path
    known: Path
    port: int = 22
    at_once: int = 8
    patience: float = 3600.0
    addresses: Mapping[str, tuple[str, int]] = {}

    def place(self, computer: str) -> tuple[str, int]:
        """Where a computer is: as the inventory says, else by its name."""
        return self.addresses.get(computer.lower(), (computer, self.port))

    def line(self, computer: str, heard: Callable[[str], object]) -> SshLine:
        host, port = self.place(computer)
        address = Address(
            address=host, port=port, user=self.user, known=str(self.known), key=str(self.key), wait="10 min"
        )
        return SshLine(computer, address, heard, self.patience)

    async def answers(self, computer: str) -> bool:
        """Whether its port answers."""
        try:
            _, writer = await asyncio.wait_for(asyncio.open_connection(*self.place(computer)), DOOR)
        except (OSError, TimeoutError):
            return False
        writer.close()
        return True
