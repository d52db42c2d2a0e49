"""The same work on many files, by several processes at once."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from typing import TypeVar

Given = TypeVar("Given")
Came = TypeVar("Came")


def in_processes(work: Callable[[Given], Came], jobs: Sequence[Given], count: int) -> Iterator[Came]:
    """What comes of each job, in their order; in this process where ``count`` is 1. What is left is not begun any more
    where somebody stops listening, or anything goes wrong.
    """
    if count == 1:
        yield from map(work, jobs)
        return
    with ProcessPoolExecutor(count) as pool:
        try:
            yield from pool.map(work, jobs, chunksize=max(1, min(16, len(jobs) // (16 * count))))
        except BaseException:
            pool.shutdown(wait=True, cancel_futures=True)
            raise
