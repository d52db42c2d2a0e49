"""A package in other forms than a folder with a runner: what a plan brings, as a database of the Windows Installer."""

from yendo.forms.database import Impossible, compose
from yendo.forms.form import MSI, FormBuilt, build

__all__ = ["MSI", "FormBuilt", "Impossible", "build", "compose"]
