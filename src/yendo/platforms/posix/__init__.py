"""POSIX systems as a target: trees of files with modes, owners, links and extended attributes."""

from yendo.platforms.posix.tree import PosixThing, changes, listed, observed

__all__ = ["PosixThing", "changes", "listed", "observed"]
