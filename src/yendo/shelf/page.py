"""The shelf as one page that needs nothing else."""

from __future__ import annotations

from importlib.resources import files

import jinja2

from yendo.plan.house import HouseGiven
from yendo.shelf.shelf import STATES, Shelf


def page(shelf: Shelf, furnished: HouseGiven | None = None) -> str:
    """The page as HTML. Raises HouseError where the office's logo cannot be read."""
    environment = jinja2.Environment(
        autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["last_line"] = lambda text: str(text).rpartition("\n")[2]
    template = environment.from_string(files("yendo.shelf").joinpath("shelf.html.jinja").read_text("utf-8"))
    return template.render(
        shelf=shelf,
        states=list(reversed(STATES)),
        office=furnished.house.name if furnished else "",
        logo=furnished.logo_address() if furnished else "",
    )
