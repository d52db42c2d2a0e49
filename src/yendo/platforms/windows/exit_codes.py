"""Exit codes of the Windows Installer, which most setup programs and the runner take over.

Source: the Windows Installer's error codes: done; done, and a restart is needed; done, and a restart has begun.
"""

DONE = (0, 3010, 1641)
RESTARTS = (3010, 1641)
