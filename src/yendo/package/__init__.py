"""The package: what is handed over, and what its runner means."""
