"""What kinds of steps are made of: the operations that change a machine, each with its function in both languages.

A kind changes nothing beside them. ``tests/test_operations.py`` holds that, and that each writes the same lines of the
record and tells the same events in both.
"""

from __future__ import annotations

import msgspec


class StepOperation(msgspec.Struct, frozen=True):
    """``host`` are methods of :class:`yendo.steps.host.Host` (``session.`` in front: of its session), ``shell``
    functions of the runner. ``records`` are the kinds of lines that it may write into the record; ``does`` what it is,
    for people. ``fields`` are what it is given.
    """

    name: str
    does: str
    host: tuple[str, ...]
    shell: tuple[str, ...]
    fields: tuple[str, ...] = ()
    records: str = ""


OPERATIONS = (
    StepOperation("put-file", "makes a file this one; what was there is kept aside",
              ("put", "put_file", "put_shortcut"), ("Set-FileBytes", "Set-FileFrom"),
              ("path", "content"), "DF"),
    StepOperation("claim", "writes down that what an office's step places is there already", ("found_so",),
              ("Add-Found",), ("line of the record",), "*"),
    StepOperation("drop-file", "takes a file away, and keeps it aside where it may be wanted again", ("drop",),
              ("Remove-Recorded",), ("path", "keep"), "X"),
    StepOperation("make-folder", "makes a folder, those above it first", ("folders",), ("New-Folders",),
              ("path",), "D"),
    StepOperation("drop-folder", "takes a folder away", ("session.remove_folder",), ("Remove-Folder", "Remove-Own"),
              ("path",)),
    StepOperation("set-value", "sets a value of the registry, its keys first, or takes it away", ("set_value",),
              ("Set-Recorded",), ("hive", "view", "key", "name", "value"), "KV"),
    StepOperation("add-entry", "sets a list of entries to one that has this too", ("add_entry",), ("Add-Entry",),
              ("entry", "hive", "view", "key", "name", "whole"), "KP"),
    StepOperation("make-key", "makes a key, those above it first", ("keys",), ("New-Keys",),
              ("hive", "view", "key"), "K"),
    StepOperation("drop-keys", "takes a key away with all below it", ("drop_keys",), ("Remove-Tree",),
              ("hive", "view", "key"), "KV"),
    StepOperation("drop-key", "takes an empty key away", ("session.drop_key",), ("Remove-Key",),
              ("hive", "view", "key")),
    StepOperation("run", "runs a program to its end, and judges its exit code", ("run",),
              ("Invoke-CommandLine", "[Diagnostics.Process]::Start"), ("line", "time", "codes"), "U"),
    StepOperation("call", "runs a short command of the system's", ("call",), ("Invoke-Call",), ("line", "time")),
    StepOperation("remember", "writes a line into the record before something is done", ("remember",), ("Add-Record",),
              ("line of the record",), "*"),
    StepOperation("take-back", "undoes what the record says", ("take_back",), ("Undo-Lines",), ("lines",), "*"),
    StepOperation("forget", "shortens the record", ("forget",), ("Clear-Record",), ("how many lines stay",)),
    StepOperation("own-file", "writes or takes away a file of the package's own on the machine",
              ("session.write", "session.remove", "own_folders"), ("own files",), ("path", "content")),
)  # fmt: skip
BY_NAME = {one.name: one for one in OPERATIONS}
