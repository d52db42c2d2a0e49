"""The operations of a compiled script, by theme; importing this fills the table."""

from yendo.installers.script_exe.doing import control, files, programs, registry, values
from yendo.installers.script_exe.doing.table import DOES

__all__ = ["DOES", "control", "files", "programs", "registry", "values"]
