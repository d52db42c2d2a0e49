"""The commands: argparse and printing, no logic.

From the first import on an interruption ends the program without a trace, until ``main`` says what is to be done then.
"""

import signal
import sys

if "pytest" not in sys.modules and signal.getsignal(signal.SIGINT) is signal.default_int_handler:
    signal.signal(signal.SIGINT, signal.SIG_DFL)
