"""``machines.toml``: the computers of an office that packages are proved on over SSH; how each is put back."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from yendo.errors import NoMachine, Usage
from yendo.terms.amounts import seconds

NAME = "machines.toml"
_WORD = re.compile(r"(?i)pass(word|wd|phrase)?|secret|token")


class Address(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A computer. ``host_key`` is the line of its public key (``ssh-ed25519 AAAA...``), which is all that is believed,
    or ``known`` a file of such keys and of who vouches for them, as OpenSSH keeps it; ``key`` a private key's file,
    without one the person's own keys and agent are asked. ``revert`` are commands on this computer, each a list of
    words, that put it back; it answers again within ``wait``. ``although`` says why it may be one that belongs to
    somebody. ``system`` is what runs on it.
    """

    address: Annotated[str, Meta(min_length=1)]
    user: Annotated[str, Meta(min_length=1)]
    host_key: str = ""
    known: str = ""
    port: Annotated[int, Meta(ge=1, le=65535)] = 22
    key: str = ""
    revert: tuple[tuple[str, ...], ...] = ()
    wait: str = "10 min"
    although: str = ""
    system: Literal["windows", "macos"] = "windows"

    def __post_init__(self) -> None:
        seconds(self.wait)
        if bool(self.host_key) == bool(self.known):
            raise ValueError("one of host_key and known says which key the computer must show")
        if self.host_key and not re.match(r"(ssh-|ecdsa-|sk-)\S+ \S+", self.host_key):
            raise ValueError('host_key is the line of its public key: host_key = "ssh-ed25519 AAAAC3Nza..."')
        if any(not command for command in self.revert):
            raise ValueError('a command of revert is a list of words: revert = [["virsh", "snapshot-revert", "w11"]]')


def find(folder: Path) -> Path | None:
    """The file of the office: the nearest one above a folder, else the person's own."""
    import platformdirs

    for above in (folder.resolve(), *folder.resolve().parents):
        if (above / NAME).is_file():
            return above / NAME
    own = Path(platformdirs.user_config_dir("yendo")) / NAME
    return own if own.is_file() else None


def read(path: Path) -> dict[str, Address]:
    """The computers by their names. Raises Usage."""
    try:
        raw = tomllib.loads(path.read_text("utf-8"))
    except (OSError, tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise Usage(f"{path} cannot be read: {error}") from error
    for name, table in raw.items():
        for key in table if isinstance(table, dict) else ():
            if _WORD.fullmatch(key.replace("-", "").replace("_", "")):
                raise Usage(
                    f"{path}: [{name}] has {key}: a password does not belong in a file. Put a public key onto the "
                    "computer (docs/machines.md says where), and name the private one with `key`, or use an agent"
                )
        if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}", name):
            raise Usage(f"{path}: {name!r} is no name for a machine; letters, digits, and . _ - between them")
    try:
        return msgspec.convert(raw, dict[str, Address])
    except msgspec.ValidationError as error:
        raise Usage(f"{path}: {error}") from error


def named(folder: Path, name: str) -> Address:
    """A computer by its name. Raises NoMachine, Usage."""
    path = find(folder)
    if path is None:
        raise NoMachine(
            f"ssh:{name} is described in a {NAME} beside or above the workspace, and there is none; docs/machines.md "
            "shows one"
        )
    known = read(path)
    if name not in known:
        raise NoMachine(f"{path} has no [{name}]; it has: {', '.join(known) or 'none'}")
    return known[name]
