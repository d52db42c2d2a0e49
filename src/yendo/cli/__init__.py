"""The commands: argparse and printing, no logic.

From the first import on an interruption ends the program without a trace, until ``main`` says what is to be done then.
"""

import sys

# The interpreter has this part of ``signal`` from its start; importing the whole module takes long enough that an
# interruption was seen to land in it.
_signals = sys.modules["_signal"]
if "pytest" not in sys.modules and _signals.getsignal(_signals.SIGINT) is _signals.default_int_handler:
    _signals.signal(_signals.SIGINT, _signals.SIG_DFL)
