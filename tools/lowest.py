"""Prints the oldest release of every library that the project admits, as constraints for an installer: what users of a
system with old libraries have.
"""

from __future__ import annotations

import tomllib
from pathlib import Path


def main() -> None:
    project = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text("utf-8"))["project"]
    extras = project["optional-dependencies"]
    for one in (*project["dependencies"], *extras["sign"], *extras["ssh"], *extras["dossier"]):
        print(one.replace(">=", "=="))


if __name__ == "__main__":
    main()
