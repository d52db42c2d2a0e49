"""Bytes to records and back. Knows nothing of packaging."""
