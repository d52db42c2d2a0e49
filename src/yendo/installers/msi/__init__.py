"""Installer databases: what they say, and what carrying them out does."""
