"""Drivers: what an ``.inf`` brings to which Windows, whether its catalogue covers it, and which of several wins.

Nothing here is run, and nothing is installed.
"""
