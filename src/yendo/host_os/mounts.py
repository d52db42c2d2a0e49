"""Overlays: a folder that shows another one and keeps what changes beside it. Only where a Linux lets us mount one."""

from __future__ import annotations

import os
from pathlib import Path

from yendo.host_os.files import _libc
from yendo.host_os.system import LINUX

_DETACH = 2  # Source: umount2(2)


def mount_overlay(lower: Path, upper: Path, work: Path, root: Path) -> bool:
    """Shows ``lower`` at ``root``, changes going to ``upper``; false where the system does not let us."""
    paths = [str(path) for path in (lower, upper, work)]
    if not LINUX or any("," in path or ":" in path or "\\" in path for path in paths):
        return False
    os.chown(upper, os.getuid(), os.getgid())
    options = "lowerdir={},upperdir={},workdir={}".format(*paths)
    return not _libc().mount(b"overlay", os.fsencode(root), b"overlay", 0, options.encode())


def unmount(root: Path, *, detach: bool = False) -> bool:
    """Takes an overlay away; false while it is in use.

    With ``detach`` it vanishes at once and goes when nobody uses it.
    """
    return LINUX and not _libc().umount2(os.fsencode(root), _DETACH if detach else 0)
