"""The proof: a built package on a fresh machine, phase by phase."""
