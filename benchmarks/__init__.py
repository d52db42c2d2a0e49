"""Ratios, measured side by side in one run. ``./run bench [name ...]``."""
