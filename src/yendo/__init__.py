"""Yendo: from a vendor's installer to a package that is proved on a fresh machine."""

__version__ = "0.1.0"
