"""Exit codes of the Windows Installer, which most setup programs and the runner take over.

Source: the Windows Installer's error codes: done; done, and a restart is needed; done, and a restart has begun.
"""

NEEDS_RESTART, RESTARTING = 3010, 1641
BUSY = 1618  # another installation is at work
DONE = (0, NEEDS_RESTART, RESTARTING)
RESTARTS = (NEEDS_RESTART, RESTARTING)
