"""A simulated macOS: a tree of files, an installer that lays packages onto it, and stand-ins of the system's programs,
on which scripts are carried out for real.
"""
