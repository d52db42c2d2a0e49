"""Private copies of a template: an overlay where the system lets us mount one, else a copy of the files.

An overlay costs milliseconds and holds only what changed. The template is never written to.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

from yendo import host_os
from yendo.errors import NoMachine
from yendo.machines.wine.observe import is_whiteout


class PrivateCopy:
    """A writable copy of ``template`` below ``work``; ``root`` is where it can be used."""

    def __init__(self, template: Path, work: Path) -> None:
        self.template, self.work, self.root = template, work, work / "prefix"
        self.upper = work / "upper"
        for folder in (self.upper, work / "overlay", self.root):
            folder.mkdir(parents=True, exist_ok=True)
        self._free = shutil.disk_usage(work).free
        self.overlaid = self._overlay()
        if not self.overlaid:
            done = subprocess.run(
                ["cp", "-a", "--reflink=auto", f"{template}/.", str(self.root)],
                capture_output=True,
                text=True,
                check=False,
            )
            if done.returncode:
                raise NoMachine(f"no private copy of the machine could be made: {done.stderr.strip()[:200]}")

    def _overlay(self) -> bool:
        return host_os.mount_overlay(self.template, self.upper, self.work / "overlay", self.root)

    def used(self) -> int:
        """Bytes that this file system has lost since the copy was made: a bound, other programs write to it too."""
        return max(0, self._free - shutil.disk_usage(self.work).free)

    def changed(self) -> Iterator[tuple[Path, str]]:
        """``(path in the copy, "file" | "folder" | "gone")`` for what may differ from the template."""
        yield from self._changed_in_layer() if self.overlaid else self._changed_by_walking()

    def _changed_in_layer(self) -> Iterator[tuple[Path, str]]:
        top = self.upper / "drive_c"
        for folder, folders, files in os.walk(top):
            here = Path(folder)
            opaque = here != top and _is_opaque(here)
            for name in folders:
                yield self.root / (here / name).relative_to(self.upper), "folder"
            for name in files:
                path = here / name
                relative = path.relative_to(self.upper)
                if is_whiteout(path):
                    yield from self._gone(relative)
                elif not path.is_symlink():
                    yield self.root / relative, "file"
            if opaque:
                lower = self.template / here.relative_to(self.upper)
                kept = set(folders) | set(files)
                for entry in lower.iterdir() if lower.is_dir() else ():
                    if entry.name not in kept:
                        yield from self._gone(entry.relative_to(self.template))

    def _gone(self, relative: Path) -> Iterator[tuple[Path, str]]:
        yield self.root / relative, "gone"
        lower = self.template / relative
        if lower.is_dir() and not lower.is_symlink():
            for folder, folders, files in os.walk(lower):
                for name in folders + files:
                    yield self.root / (Path(folder) / name).relative_to(self.template), "gone"

    def _changed_by_walking(self) -> Iterator[tuple[Path, str]]:
        for folder, folders, files in os.walk(self.root / "drive_c"):
            here = Path(folder)
            lower = self.template / here.relative_to(self.root)
            there = {entry.name for entry in lower.iterdir()} if lower.is_dir() else set()
            for name in folders:
                if name not in there:
                    yield here / name, "folder"
            for name in files:
                path, old = here / name, lower / name
                if path.is_symlink():
                    continue
                if name not in there or (path.stat().st_size, path.stat().st_mtime_ns) != (
                    old.stat().st_size,
                    old.stat().st_mtime_ns,
                ):
                    yield path, "file"
            for name in there - set(folders) - set(files):
                yield from self._gone((lower / name).relative_to(self.template))

    def discard(self) -> None:
        """Unmounts, then deletes; never deletes what is still mounted."""
        if self.overlaid:
            for attempt in range(50):
                if host_os.unmount(self.root):
                    break
                time.sleep(0.02 * (attempt + 1))
            else:
                if not host_os.unmount(self.root, detach=True):
                    return
        shutil.rmtree(self.work, ignore_errors=True)


def _is_opaque(path: Path) -> bool:
    try:
        return os.getxattr(path, "trusted.overlay.opaque") == b"y"
    except OSError:
        return False
