"""What differs between the computers that Yendo itself runs on. Nothing else asks the system for these things.

| need | Linux | Windows | macOS |
|---|---|---|---|
| a folder in the place of another | one step (``renameat2``), where the file system can | absent for a moment, never half | the same |
| a file in the place of another | one step | one step; tried again while a reader holds it | one step |
| a lock between processes | ``filelock`` | ``filelock`` | ``filelock`` |
| a file without a name | in memory | a private folder that goes with it | a private folder that goes with it |
| a private file | mode 600 | the folder's own rights: the user's profile is private | mode 600 |
| extended attributes | read | not read | not read: Python has no call for them there |
| an overlay of two folders | where root may mount one | none | none |

The halves for Windows and macOS are tried by faking the system where it is not at hand; the Windows half runs for
real as a Windows process on the API layer. Nothing here ran on macOS.
"""  # noqa: E501

from yendo.host_os.files import attributes_of, exchange, file_mode, nameless, private, replace
from yendo.host_os.locks import Busy, locked
from yendo.host_os.mounts import mount_overlay, unmount
from yendo.host_os.processes import (
    below,
    bytes_moved,
    cpu_seconds,
    end,
    end_group,
    environment_of,
    gone,
    is_alive,
    new_group,
    paused,
)
from yendo.host_os.system import LINUX, MACOS, WINDOWS, load, open_files

__all__ = [
    "LINUX", "MACOS", "WINDOWS", "Busy", "attributes_of", "below", "bytes_moved", "cpu_seconds", "end", "end_group",
    "environment_of", "exchange", "file_mode", "gone", "is_alive", "load", "locked", "mount_overlay", "nameless",
    "new_group", "open_files", "paused", "private", "replace", "unmount",
]  # fmt: skip
