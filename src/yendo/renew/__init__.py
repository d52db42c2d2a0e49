"""Carrying a package over to the vendor's next version."""
