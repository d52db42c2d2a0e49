"""The machines of the Marrowby harbour survey office, and how packages ended on them before: made up, always alike."""

from __future__ import annotations

import csv
import io
import random
from collections.abc import Mapping, Sequence
from pathlib import Path

from yendo import atomic

SITES = (("Marrowby quay", 170), ("Lowmouth station", 70))
_MODELS = ("Slate 14", "Slate 16", "Anvil tower", "Buoy tablet")
_WINDOWS = ("10.0.19045.5011", "10.0.19045.4529", "10.0.22631.4317", "10.0.26100.2033")
_LANGUAGES = ("en-GB", "en-GB", "en-GB", "de-DE")
_PROGRAMS = (  # name, versions, how common
    ("Lantern", ("6.1.0", "6.2.1", "6.2.3"), 0.55),
    ("Sounder", ("4.0", "4.1"), 0.3),
    ("Harbour Ledger", ("11.2", "11.3"), 0.8),
    ("Chart Viewer", ("2.0.1",), 0.45),
    ("Quay Mail", ("7.1", "7.4"), 0.95),
)
_CODES: dict[str, dict[str, str]] = {  # the patch keeps the product's code
    "Lantern": dict.fromkeys(("6.2.1", "6.2.3"), "{4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}"),
    "Sounder": {},
}
_GAUGE_DRIVERS = (  # in use, its date and version: the old one, the new one, none
    ("oem4.inf", "2022-05-02", "1.4.2.0"), ("oem7.inf", "2026-03-14", "2.1.0.0"), ("", "", "")
)  # fmt: skip
_EARLIER = (  # package, version, how often it failed, with which codes
    ("sounder", "4.1", 0.02, (1618, 22)),
    ("ledger", "11.3", 0.06, (22, 30, 1603)),
    ("chart-viewer", "2.0.1", 0.01, (1603,)),
)


def write(folder: Path) -> list[Path]:
    """Writes ``machines.csv``, ``programs.csv`` and ``outcomes.csv``; their paths."""
    chance = random.Random(240)
    machines, programs = [], []
    for site, count in SITES:
        for number in range(1, count + 1):
            computer = f"{'MQ' if site.startswith('M') else 'LS'}-{number:03}"
            model = chance.choices(_MODELS, (6, 4, 3, 1))[0]
            machines.append(
                {
                    "computer": computer, "identity": f"S{chance.randrange(10**8):08}", "seen": "2026-11-27",
                    "site": site, "model": model, "windows": chance.choices(_WINDOWS, (5, 2, 6, 3))[0],
                    "architecture": "arm64" if model == "Buoy tablet" else "x64", "edition": "Enterprise",
                    "language": chance.choice(_LANGUAGES), "domain": "marrowby.example",
                    "memory": chance.choice((4, 8, 8, 16)) << 30,
                    "disk C": chance.choice((1, 12, 40, 120, 300)) * 10**9,
                    "tags": "counter" if chance.random() < 0.1 else "",
                }
            )  # fmt: skip
            for name, versions, share in _PROGRAMS:
                if chance.random() < share:
                    version = chance.choice(versions)
                    maker = "Tidewell" if name in _CODES else "Marrowby"
                    programs.append(
                        {
                            "computer": computer, "program": name, "version": version, "publisher": maker,
                            "code": _CODES.get(name, {}).get(version, ""),
                        }
                    )  # fmt: skip
    outcomes = []
    for package, version, share, codes in _EARLIER:
        for one in chance.sample(machines, 180):
            worse = 2.5 if one["site"] == "Lowmouth station" else 0.7
            code = chance.choice(codes) if chance.random() < share * worse else 0
            outcomes.append(
                {
                    "computer": one["computer"], "package": package, "version": version, "code": code,
                    "ended": f"2026-10-{chance.randrange(1, 29):02}T{chance.randrange(7, 19):02}:10:00",
                    "seconds": chance.randrange(40, 400), "site": one["site"],
                }
            )  # fmt: skip
    tables = (("machines.csv", machines), ("programs.csv", programs), ("outcomes.csv", outcomes))
    return [_written(folder / name, rows) for name, rows in tables]


def devices(folder: Path) -> Path:
    """Writes ``devices.csv``: a network card each, and the tide gauges; its path."""
    chance = random.Random(21)
    rows = []
    for site, count in SITES:
        for number in range(1, count + 1):
            computer = f"{'MQ' if site.startswith('M') else 'LS'}-{number:03}"
            rows.append(
                _device(computer, "Network card", "PCI\\VEN_FFFE&DEV_0007", ("netquay.inf", "2024-02-11", "3.0.0.1"))
            )
            if chance.random() < (0.15 if site.startswith("M") else 0.6):
                name, ids = "Tidewell tide gauge", "USB\\VID_FFFE&PID_0021&REV_0200;USB\\VID_FFFE&PID_0021"
                rows.append(_device(computer, name, ids, chance.choices(_GAUGE_DRIVERS, (6, 2, 1))[0]))
    return _written(folder / "devices.csv", rows)


def _device(computer: str, name: str, identifiers: str, used: tuple[str, str, str]) -> dict[str, object]:
    inf, day, version = used
    matching, rank = (identifiers.partition(";")[0], 0x00FF0000) if inf else ("", "")
    return {
        "computer": computer, "device": name, "hardware": identifiers, "compatible": "", "inf": inf,
        "provider": "Tidewell" if inf else "", "date": day, "version": version, "matching": matching, "rank": rank,
    }  # fmt: skip


def _written(path: Path, rows: Sequence[Mapping[str, object]]) -> Path:
    out = io.StringIO()
    writer = csv.DictWriter(out, list(rows[0]), lineterminator="\r\n")
    writer.writeheader()
    writer.writerows(rows)
    atomic.write(path, out.getvalue().encode())
    return path
