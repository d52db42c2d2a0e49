"""Setup programs that interpret compiled instructions (``script-exe``)."""

from yendo.installers.script_exe.describe import FAMILY, find, parts, predict, removal, tell

__all__ = ["FAMILY", "find", "parts", "predict", "removal", "tell"]
