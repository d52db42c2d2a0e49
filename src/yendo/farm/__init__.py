"""Many packages at once: which cell is played where, on this computer's processes or on a cluster."""
