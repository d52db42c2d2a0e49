"""The kinds of things a machine has that a package can change.

Every kind has an ``identity`` that two observations of the same thing share. A field that is None
was not known to whoever made the record, and is then not compared.
"""

from __future__ import annotations

from typing import Literal

import msgspec

View = Literal["64", "32"]
Data = str | int | tuple[str, ...] | None


def folded(identity: str) -> str:
    """A name as its system compares it: a path that begins with a slash is as it is written, everything of Windows' is
    the same in small and capital letters.
    """
    return identity if identity.startswith("/") else identity.lower()


def parent(path: str) -> str:
    """The folder a path lies in: ``C:\\a\\b`` in ``C:\\a``, ``C:\\a`` in ``C:``, and ``C:`` in nothing; ``/a/b`` in
    ``/a``, ``/a`` in ``/``, and ``/`` in nothing.
    """
    if path.startswith("/"):
        return path.rpartition("/")[0] or ("" if path == "/" else "/")
    return path.rpartition("\\")[0]


Attributes = tuple[tuple[str, str], ...]  # extended ones, by their names, each value in small hex


class _Thing(msgspec.Struct, frozen=True, omit_defaults=True, tag_field="kind", gc=False):
    pass


class File(_Thing, tag="file", frozen=True):
    """A file. ``path`` is absolute, as its system writes it; ``size`` in bytes; ``sha256`` lower-case hex.

    ``architecture`` is that of a program; ``signer`` the name in the certificate of its signature; ``changed`` when it
    was last written (on Windows the day, UTC, ISO), which makes two files no different. ``mode``, ``user``, ``group``
    and ``attributes`` are what POSIX systems have.
    """

    path: str
    size: int | None = None
    sha256: str | None = None
    version: str | None = None
    architecture: str | None = None
    signer: str | None = None
    changed: str | None = None
    mode: int | None = None
    user: int | None = None
    group: int | None = None
    attributes: Attributes | None = None

    @property
    def identity(self) -> str:
        return folded(self.path)


class Folder(_Thing, tag="folder", frozen=True):
    """A folder, by its absolute path without a trailing separator; the rest as a file has it."""

    path: str
    mode: int | None = None
    user: int | None = None
    group: int | None = None
    attributes: Attributes | None = None

    @property
    def identity(self) -> str:
        return folded(self.path)


class Link(_Thing, tag="link", frozen=True):
    """A symbolic link; ``target`` is where it leads, as it says."""

    path: str
    target: str | None = None
    user: int | None = None
    group: int | None = None

    @property
    def identity(self) -> str:
        return folded(self.path)


class RegistryKey(_Thing, tag="registry-key", frozen=True):
    """A key that holds neither values nor keys."""

    hive: str
    key: str
    view: View = "64"

    @property
    def identity(self) -> str:
        return f"{self.hive}/{self.view}\\{self.key}".lower()

    @property
    def full_key(self) -> str:
        """With its hive, as people write it."""
        return f"{self.hive}\\{self.key}"


class RegistryValue(_Thing, tag="registry", frozen=True):
    """A registry value. ``hive`` is HKLM, HKCU or HKU; ``key`` never holds Wow6432Node, ``view`` says it.

    ``type`` is sz, expand, multi, dword, qword or binary; binary data is lower-case hex; the unnamed
    value has the name "".
    """

    hive: str
    key: str
    name: str
    type: str | None = None
    data: Data = None
    view: View = "64"

    @property
    def identity(self) -> str:
        return f"{self.hive}/{self.view}\\{self.key}!{self.name}".lower()

    @property
    def full_key(self) -> str:
        """With its hive, as people write it."""
        return f"{self.hive}\\{self.key}"


class Shortcut(_Thing, tag="shortcut", frozen=True):
    """A shell link. ``path`` includes ``.lnk``."""

    path: str
    target: str | None = None
    arguments: str | None = None
    working_folder: str | None = None
    description: str | None = None

    @property
    def identity(self) -> str:
        return self.path.lower()


class Service(_Thing, tag="service", frozen=True):
    """A service. ``start`` is boot, system, auto, demand or disabled; ``command`` its command line.

    ``settings`` are what is set beside these, in words: recovery, delayed start.
    """

    name: str
    display_name: str | None = None
    command: str | None = None
    start: str | None = None
    account: str | None = None
    depends_on: tuple[str, ...] | None = None
    running: bool | None = None
    settings: tuple[str, ...] | None = None

    @property
    def identity(self) -> str:
        return self.name.lower()


class Environment(_Thing, tag="environment", frozen=True):
    """An environment variable of the machine or of the user."""

    name: str
    value: str | None = None
    scope: Literal["machine", "user"] = "machine"

    @property
    def identity(self) -> str:
        return f"{self.scope}:{self.name}".lower()


class IniValue(_Thing, tag="ini", frozen=True):
    """One key of one section of an ini file."""

    path: str
    section: str
    key: str
    value: str | None = None

    @property
    def identity(self) -> str:
        return f"{self.path}|{self.section}|{self.key}".lower()


class AccessRights(_Thing, tag="access-rights", frozen=True):
    """Rights on a path, a registry key or a service: ``who`` and what, as a mask, or a whole descriptor as text with no
    ``who``.
    """

    target: str
    who: str
    rights: str | None = None

    @property
    def identity(self) -> str:
        return f"{self.target}|{self.who}".lower()


class UninstallEntry(_Thing, tag="uninstall-entry", frozen=True):
    """An entry of the list of installed programs. ``key`` is the last part of its registry key."""

    key: str
    hive: str = "HKLM"
    view: View = "64"
    name: str | None = None
    version: str | None = None
    publisher: str | None = None
    uninstall: str | None = None
    quiet_uninstall: str | None = None
    hidden: bool | None = None

    @property
    def identity(self) -> str:
        return f"{self.hive}/{self.view}\\{self.key}".lower()


class Product(_Thing, tag="product", frozen=True):
    """A product that the Windows Installer has on record.

    ``language`` is a number (1033); ``upgrade_code`` its line's.
    """

    code: str
    name: str | None = None
    version: str | None = None
    language: int | None = None
    scope: Literal["machine", "user"] | None = None
    upgrade_code: str | None = None

    @property
    def identity(self) -> str:
        return self.code.lower()


PartSort = Literal["task", "firewall-rule", "driver", "feature", "capability", "system-package", "app", "mode"]


class Part(_Thing, tag="part", frozen=True):
    """A part of the system that its own programs look after.

    The ``sort`` mode is that of a host which many people share.
    """

    sort: PartSort
    name: str
    value: str | None = None

    @property
    def identity(self) -> str:
        return f"{self.sort}:{self.name}".lower()


Thing = (
    File
    | Folder
    | Link
    | RegistryKey
    | RegistryValue
    | Shortcut
    | Service
    | Environment
    | IniValue
    | AccessRights
    | UninstallEntry
    | Product
    | Part
)

KINDS: dict[str, type] = {
    "file": File,
    "folder": Folder,
    "link": Link,
    "registry": RegistryValue,
    "registry-key": RegistryKey,
    "shortcut": Shortcut,
    "service": Service,
    "environment": Environment,
    "ini": IniValue,
    "access-rights": AccessRights,
    "uninstall-entry": UninstallEntry,
    "product": Product,
    "part": Part,
}
_KIND_OF = {kind: name for name, kind in KINDS.items()}


def kind_of(thing: Thing) -> str:
    """The kind's name, as in the plan and in reports."""
    return _KIND_OF[type(thing)]


def key_of(thing: Thing) -> tuple[str, str]:
    """What identifies a thing among all things."""
    return _KIND_OF[type(thing)], thing.identity


def label(thing: Thing) -> str:
    """One line for a person."""
    match thing:
        case File() | Folder() | Link() | Shortcut():
            return thing.path
        case RegistryValue():
            view = " (32-bit view)" if thing.view == "32" else ""
            return f"{thing.full_key}\\{thing.name or '(unnamed)'}{view}"
        case RegistryKey():
            return thing.full_key + (" (32-bit view)" if thing.view == "32" else "")
        case Environment():
            return f"{thing.name} ({thing.scope})"
        case IniValue():
            return f"{thing.path} [{thing.section}] {thing.key}"
        case AccessRights():
            return f"{thing.target} for {thing.who or 'everyone named'}"
        case UninstallEntry():
            return f"{thing.name or thing.key} {thing.version or ''}".strip()
        case Part():
            return f"{thing.sort} {thing.name}"
        case Product():
            return f"{thing.code} {thing.name or ''}".strip()
    return thing.name


def same(one: Thing, other: Thing) -> bool:
    """Equal in every field that both know; paths and text without regard to case where Windows has none."""
    if type(one) is not type(other):
        return False
    for field in one.__struct_fields__:
        left, right = getattr(one, field), getattr(other, field)
        if left is None or right is None or left == right or field == "changed":
            continue
        if (
            field in ("path", "key", "name", "target", "working_folder", "code", "upgrade_code")
            and folded(str(left)) == folded(str(right))
            and not isinstance(one, Link)
        ):
            continue
        return False
    return True
