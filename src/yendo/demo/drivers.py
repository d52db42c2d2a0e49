"""The invented vendor's drivers for its tide gauge, as they lie on a share after some years.

Their catalogues were made and signed once, by ``tools/sign_drivers.py``; the key was thrown away.
"""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

import msgspec

DEVICE = r"USB\VID_FFFE&PID_0021"
_INF = """\
; Tide gauge of Tidewell, read over a serial line
[Version]
Signature   = "$Windows NT$"
Class       = Ports
ClassGuid   = {{4d36e978-e325-11ce-bfc1-08002be10318}}
Provider    = %Tidewell%
DriverVer   = {date},{version}
{catalogue}PnpLockdown = 1

[Manufacturer]
%Tidewell% = Gauges, NT{processor}.10.0

[Gauges.NT{processor}.10.0]
%Gauge%      = Gauge, USB\\VID_FFFE&PID_0021&REV_0200, USB\\VID_FFFE&PID_0021
%OldGauge%   = Gauge, USB\\VID_FFFE&PID_0020

[DestinationDirs]
DefaultDestDir = 13

[SourceDisksNames]
1 = %Disk%

[SourceDisksFiles]
tidegauge.tab = 1

[Gauge.NT]
CopyFiles = Gauge.Files
AddReg    = Gauge.Values

[Gauge.Files]
tidegauge.tab

[Gauge.Values]
HKR,,PortSubClass,1,01
HKR,,TideTable,,"tidegauge.tab"

[Gauge.NT.Services]
AddService = usbser, 0x00000002, Serial

[Serial]
ServiceType   = 1
StartType     = 3
ErrorControl  = 1
ServiceBinary = %12%\\usbser.sys

[Strings]
Tidewell = "Tidewell"
Disk     = "Tidewell tide gauge"
Gauge    = "Tide gauge 2"
OldGauge = "Tide gauge"

[Strings.0407]
Gauge    = "Gezeitenpegel 2"
OldGauge = "Gezeitenpegel"
"""


class DemoDriver(msgspec.Struct, frozen=True):
    """A folder of the share. ``catalogue`` names the one that was made for it; empty for one that is not signed."""

    folder: str
    version: str
    date: str
    processor: str = "amd64"
    catalogue: str = ""

    @property
    def files(self) -> dict[str, bytes]:
        """What the driver is, without its catalogue."""
        line = "CatalogFile = tidegauge.cat\n" if self.catalogue else ""
        text = _INF.format(date=self.date, version=self.version, processor=self.processor, catalogue=line)
        table = f"Tide table of the gauge, {self.version}\r\n" + "0.00 0.12 0.31 0.44 0.52\r\n" * 8
        return {"tidegauge.inf": text.replace("\n", "\r\n").encode("ascii"), "tidegauge.tab": table.encode("ascii")}

    @property
    def all_files(self) -> dict[str, bytes]:
        """With its catalogue."""
        if not self.catalogue:
            return self.files
        made = files("yendo.demo").joinpath("catalogues", f"{self.catalogue}.cat")
        return {**self.files, "tidegauge.cat": made.read_bytes()}


CURRENT = DemoDriver("tidegauge-2.1", "2.1.0.0", "03/14/2026", catalogue="tidegauge-2.1")
SHARE = (
    CURRENT,
    DemoDriver("tidegauge-1.4", "1.4.2.0", "05/02/2022", catalogue="tidegauge-1.4"),
    DemoDriver("from-the-quay/tidegauge", "2.1.0.0", "03/14/2026", catalogue="tidegauge-2.1"),
    DemoDriver("tidegauge-2.2-beta", "2.2.0.0", "09/30/2026"),
    DemoDriver("tidegauge-2.1-arm64", "2.1.0.0", "03/14/2026", "arm64", "tidegauge-2.1-arm64"),
)


def put(driver: DemoDriver, folder: Path) -> None:
    """Writes one driver into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, data in driver.all_files.items():
        (folder / name).write_bytes(data)


def share(folder: Path) -> Path:
    """Writes the whole share: one of today, an old one, the same once more, one that is not signed, one for another
    processor.
    """
    for driver in SHARE:
        put(driver, folder / driver.folder)
    return folder


def publisher() -> bytes:
    """The certificate of who signed them, as a file of it."""
    return files("yendo.demo").joinpath("catalogues", "tidewell.cer").read_bytes()
