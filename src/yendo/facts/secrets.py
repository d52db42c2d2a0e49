"""Which properties hold secrets, by their names; their values are shown nowhere."""

import re

MASK = "****"
_NAMES = re.compile(
    r"(?i)(pass(word|phrase|wd)?|pwd|secret|token|api_?key|serial|licen[cs]e_?(key|code)|activation|credential|product_?key|pidkey)"
)


def is_secret(name: str) -> bool:
    """Whether a property of this name would hold a secret."""
    return bool(_NAMES.search(name)) and not re.search(r"(?i)(file|server|host|path|dir|type|accept|agree)$", name)


_SAID = re.compile(r"(?i)(pass(?:word|wd|phrase)?|pwd|secret|token)(\s*[=:]\s*|\s+)(\"[^\"]*\"|'[^']*'|\S+)")


def mask_words(text: str) -> str:
    """A text without what follows a word for a secret."""
    return _SAID.sub(lambda match: match[1] + match[2] + MASK, text)


def mask(text: str, values: tuple[str, ...]) -> str:
    """A text with every secret value replaced."""
    for value in sorted(values, key=len, reverse=True):
        if value:
            text = text.replace(value, MASK)
    return text
