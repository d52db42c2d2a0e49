"""What a machine went through, as effects: the work is done on a machine that is nobody else's, and what differs
afterwards is sorted into what belongs to the program, to the machine, and to nobody.
"""

from yendo.capture.sort import sorted_out
from yendo.capture.take import AlreadyThere, WorkDone, WorkFailed, WorkLine, brings, there_already, work

__all__ = ["AlreadyThere", "WorkDone", "WorkFailed", "WorkLine", "brings", "sorted_out", "there_already", "work"]
