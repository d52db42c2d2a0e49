"""A package in other forms than a folder with a runner: what a plan brings, as a database of the Windows Installer or a
modern app package, or the whole package inside a database.
"""

from yendo.forms.app import build_app, publisher_of
from yendo.forms.database import LOG_ON, compose
from yendo.forms.envelope import build_envelope
from yendo.forms.form import ENVELOPE, MSI, MSIX, FormBuilt, build
from yendo.forms.places import Impossible
from yendo.forms.within import NotWithin

__all__ = [
    "ENVELOPE", "LOG_ON", "MSI", "MSIX", "FormBuilt", "Impossible", "NotWithin", "build", "build_app",
    "build_envelope", "compose", "publisher_of",
]  # fmt: skip
