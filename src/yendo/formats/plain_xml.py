"""XML out of a file that nobody vouches for: without a document type, so without entities."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yendo.errors import Unreadable

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element


def parsed(data: bytes, name: str) -> Element:
    """The root of a document. ``name`` is what it is called where it is none. Raises Unreadable."""
    from defusedxml import ElementTree
    from defusedxml.common import DefusedXmlException

    try:
        root: Element = ElementTree.fromstring(data, forbid_dtd=True)
    except (ElementTree.ParseError, DefusedXmlException, ValueError) as error:
        raise Unreadable(f"{name} cannot be read: {error}") from error
    return root
