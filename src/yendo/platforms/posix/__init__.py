"""POSIX systems as a target: trees of files with modes, owners, links and extended attributes."""

from yendo.platforms.posix.tree import PosixThing, changes, observed, things_of

__all__ = ["PosixThing", "changes", "observed", "things_of"]
