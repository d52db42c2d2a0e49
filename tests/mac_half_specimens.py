"""Workspaces with a half for macOS, made for tests."""

from __future__ import annotations

import random
import struct
from pathlib import Path
from typing import Any

import mac_signing as signing

from yendo.mac_half import build, reading, sources

ARM, INTEL = 0x0100000C, 0x01000007
PLAN = """[package]
id = "lantern"
name = "Lantern"
version = "6.2.1"
identifier = "example.marrowby.lantern"
oldest = "12.0"
processors = [{processors}]

{media}
{steps}
{rules}"""
APP = '[[install]]\nkind = "app"\nsource = "Lantern.app"\n'
RULE = '[[detect]]\nkind = "bundle"\nidentifier = "example.tidewell.lantern"\npath = "/Applications/Lantern.app"\nversion = "6.2.1"\n'


def _program(processor: int) -> bytes:
    return signing.signed(signing.program(processor), "example.tidewell.lantern")


def fat(*processors: int) -> bytes:
    """One program for several sorts of processor."""
    parts, body = b"", b""
    for one in processors:
        data = _program(one)
        offset = 4096 + len(body)
        parts += struct.pack(">5I", one, 0, offset, len(data), 12)
        body += data.ljust(-(-len(data) // 4096) * 4096, b"\0")
    return (struct.pack(">II", 0xCAFEBABE, len(processors)) + parts).ljust(4096, b"\0") + body


def app(
    folder: Path,
    *,
    processors: tuple[int, ...] = (ARM, INTEL),
    version: str = "6.2.1",
    oldest: str = "12.0",
    **info: str,
) -> Path:
    """A bundle whose program is for these sorts of processor."""
    given = {
        "CFBundleShortVersionString": version,
        "CFBundleVersion": "4711",
        "LSMinimumSystemVersion": oldest,
        "CFBundleName": "Lantern",
    }
    signing.bundle(folder, {"Resources/tide.dat": b"tide"}, info=given | info)
    data = fat(*processors) if len(processors) > 1 else _program(processors[0])
    (folder / "Contents/_CodeSignature/CodeResources").unlink()
    (folder / "Contents/_CodeSignature").rmdir()
    (folder / "Contents/MacOS/lantern").write_bytes(data)
    return folder


def workspace(
    folder: Path,
    steps: str = APP,
    *,
    rules: str = RULE,
    media: dict[str, Path] | None = None,
    processors: str = '"arm64", "x86_64"',
    **extras: bytes,
) -> Path:
    """A workspace with a bundle among its media, unless others are given."""
    (folder / "media").mkdir(parents=True)
    (folder / "extras").mkdir()
    for name, data in extras.items():
        (folder / "extras" / name.replace("__", "/").replace("_sh", ".sh")).write_bytes(data)
    if media is None:
        media = {"Lantern.app": app(folder / "media" / "Lantern.app")}
    text = "".join(
        f'[[media]]\nfile = "{name}"\nsha256 = "{sources.digest_of(folder / "media" / name)}"\n\n' for name in media
    )
    (folder / "macos.toml").write_text(
        PLAN.format(media=text, steps=steps, rules=rules, processors=processors), "utf-8"
    )
    return folder


def built(folder: Path) -> build.MacBuilt:
    plan, _ = reading.read(folder)
    return build.build(folder, plan)


def tree(folder: Path, seed: int) -> Path:
    """Files, folders, links, scripts, names beyond ASCII."""
    chance = random.Random(seed)
    words = ["tide", "Pegel ß", "潮", "a b", "o'clock"]
    places = [folder]
    folder.mkdir(parents=True)
    for number in range(chance.randrange(3, 14)):
        place = chance.choice(places) / f"{chance.choice(words)}{number}"
        match chance.randrange(5):
            case 0:
                place.mkdir()
                places.append(place)
            case 1:
                place.symlink_to(chance.choice(["../x", "tide0", "/Library/潮"]))
            case 2:
                place.write_bytes(b"#!/bin/sh\nexit 0\n")
            case _:
                place.write_bytes(chance.randbytes(chance.choice([0, 1, 511, 5000, 1_500_000])))
    return folder


def names(found: Any) -> list[str]:
    return [one.rule for one in found]
