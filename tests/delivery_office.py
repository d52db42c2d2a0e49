"""An office that delivers: a root, signers, a folder, a database, a package, and computers that are sessions of a machine."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

import driver_specimens
from cryptography.hazmat.primitives.asymmetric import rsa

from yendo.fleet import fetcher, index
from yendo.fleet.deliveries import Deliveries, moment
from yendo.fleet.index import DeliveryFolder, Index, SignersList
from yendo.fleet.store import Inventory
from yendo.fleet.waves import Stop, Wave, Waves
from yendo.package import build, signing
from yendo.package.signing import SignerIdentity
from yendo.plan import read

PLAN = r"""
mark = true
[package]
id = "{name}"
name = "{name}"
version = "{version}"
revision = 1
publisher = "Marrowby"
architecture = "x64"
{more}
[[install]]
kind = "copy"
from = "extras/tide.ini"
to = '%ProgramFiles%\Tidewell\{name}\tide.ini'

[[install]]
kind = "registry"
key = 'HKLM\Software\Tidewell\{name}'
values = {{ Site = "Pier" }}
{steps}
"""
COUNTED = """
[[install]]
kind = "script"
run = "extras/count.cmd"
probe = [{ kind = "file", path = 'C:\\counted.txt' }]
reverse = 'cmd.exe /d /c del C:\\counted.txt'
once = true
"""


def identity(name: str) -> SignerIdentity:
    """A key and its certificate, made on the spot."""
    made, key = driver_specimens.certificate(name, key=rsa.generate_private_key(65537, 2048))
    return SignerIdentity(key, (made,))


def package_of(place: Path, name: str = "tide", version: str = "1.0", more: str = "", steps: str = "") -> Path:
    """A built package."""
    (place / "extras").mkdir(parents=True)
    (place / "extras" / "tide.ini").write_bytes(b"[Tide]\r\nSite=Pier\r\n" * 3000)
    (place / "extras" / "count.cmd").write_bytes(b"@echo once>> C:\\counted.txt\r\n")
    (place / "plan.toml").write_text(PLAN.format(name=name, version=version, more=more, steps=steps))
    return build.build(place, read(place / "plan.toml")[0]).folder


class Office:
    """One office's side of everything."""

    def __init__(self, place: Path, address: str = "") -> None:
        self.place = place
        place.mkdir(parents=True, exist_ok=True)
        self.root, self.signer, self.stranger = identity("Marrowby root"), identity("Marrowby"), identity("Somebody")
        self.folder = DeliveryFolder(place / "delivery")
        (self.folder.path / index.REPORTS).mkdir(parents=True)
        self.deliveries = Deliveries(Inventory(address or place / "fleet.db"))
        self.now = moment()
        self.version = 0
        self.state_signers(self.signer)

    @property
    def thumbprint(self) -> str:
        return signing.thumbprint(self.root)

    def state_signers(self, *who: SignerIdentity, by: SignerIdentity | None = None, **more: Any) -> None:
        self.version += 1
        stated = SignersList(
            version=more.pop("version", self.version), made=self.now, expires=more.pop("expires", self.now + timedelta(days=90)),
            signers=tuple(signing.thumbprint(one) for one in who), **more,
        )  # fmt: skip
        data = index.signed(index.signers_text(stated), by or self.root, index.SIGNERS)
        (self.folder.path / index.SIGNERS).write_bytes(data)

    def deliver(self, package: Path, computers: list[str], **more: Any) -> int:
        """Begins a delivery to computers and opens its only wave."""
        own = {name: more.pop(name) for name in ("offered", "put_off", "by") if name in more}
        wave = Wave(name="all", computers=tuple(computers), pause="0 s", **own)
        waves = Waves(begin=self.now.date(), wave=(wave,), stop=Stop(), **more.pop("when", {}))
        number = self.deliveries.begin(
            package, waves, [(wave, [(name, "pier") for name in computers])], who="Ada", now=self.now, **more
        )
        self.deliveries.open_next(number, who="Ada", now=self.now)
        return number

    def publish(self, *, by: SignerIdentity | None = None, **more: Any) -> Index:
        reports = more.pop("reports", "")
        found = self.deliveries.index(self.folder, now=more.pop("now", moment()), reports=reports, **more)
        index.publish([self.folder], found, by or self.signer)
        return found

    def hand_over(self, session: Any, source: str, reports: str = "", place: Path | None = None) -> Any:
        """Puts the fetcher onto a computer."""
        made = (place or self.place) / "hand-over"
        fetcher.write(made, source, self.thumbprint, reports=reports)
        session.bring(made, r"C:\hand-over")
        return session.run(r'cmd /d /s /c ""C:\hand-over\fetch.cmd" -Install"', timeout=120)
