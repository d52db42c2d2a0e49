"""Packages for macOS: what one installs and runs, who signed it, and what its scripts would do. Read, never run."""
