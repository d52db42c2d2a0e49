"""What came of small arguments, remembered. Large ones are what hostile input is made of: they are worked out anew."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache, wraps
from typing import TypeVar

KeyT = TypeVar("KeyT", bound=str | bytes | tuple[bytes, ...])
MadeT = TypeVar("MadeT")


def remembered(count: int, most: int) -> Callable[[Callable[[KeyT], MadeT]], Callable[[KeyT], MadeT]]:
    """Remembers the last ``count`` results for arguments of at most ``most`` letters or bytes."""

    def around(work: Callable[[KeyT], MadeT]) -> Callable[[KeyT], MadeT]:
        known = lru_cache(count)(work)

        @wraps(work)
        def call(given: KeyT) -> MadeT:
            size = sum(map(len, given)) if isinstance(given, tuple) else len(given)
            return known(given) if size <= most else work(given)

        return call

    return around
