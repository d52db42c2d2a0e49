"""Machines that somebody else's hands have carried a package on: what was seen there is judged here."""
