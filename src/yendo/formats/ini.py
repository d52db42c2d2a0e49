"""Files of sections and entries whose names keep their letters as they are written."""

from __future__ import annotations

from configparser import ParsingError, RawConfigParser


class IniParser(RawConfigParser):
    """The library's reader, which makes all names small by itself."""

    def optionxform(self, optionstr: str) -> str:
        return optionstr

    def read_string(self, string: str, source: str = "<string>") -> None:
        """Raises ParsingError also where a line goes on another that has no value, which ends in the library."""
        try:
            super().read_string(string, source)
        except AttributeError as error:
            raise ParsingError(source) from error
