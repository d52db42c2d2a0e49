"""Where real setup programs are: of Debian's clamav-testfiles. The API layer has a root of its own, so a Windows process
finds them where they were copied to.
"""

import os
from pathlib import Path

SAMPLES = Path(os.environ.get("YENDO_SAMPLES") or "/usr/share/clamav-testfiles").absolute()
