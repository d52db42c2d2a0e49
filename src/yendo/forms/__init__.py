"""A package in other forms than a folder with a runner: what a plan brings, as a database of the Windows Installer, or
the whole package inside one.
"""

from yendo.forms.database import Impossible, compose
from yendo.forms.envelope import ENVELOPE, build_envelope
from yendo.forms.form import MSI, FormBuilt, build
from yendo.forms.within import NotWithin

__all__ = ["ENVELOPE", "MSI", "FormBuilt", "Impossible", "NotWithin", "build", "build_envelope", "compose"]
