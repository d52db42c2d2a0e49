"""Files of sections and entries whose names keep their letters as they are written."""

from __future__ import annotations

from configparser import RawConfigParser


class IniParser(RawConfigParser):
    """The library's reader, which makes all names small by itself."""

    def optionxform(self, optionstr: str) -> str:
        return optionstr
