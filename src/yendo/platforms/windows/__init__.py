"""Windows as a target: its folders and variables, releases, registry, paths, and the exit codes that installers share.

What only Windows has is written here and in the rooms that stand on it: its installers, its kinds of steps and rules,
its machines.
"""
