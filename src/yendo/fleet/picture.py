"""A course as a picture: machines by day, waves in the background, the limit of what may fail."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import date
from typing import Any

from yendo.drawing import drawn
from yendo.fleet.course import Course
from yendo.fleet.happened import Happened

_DONE, _FAILED, _SILENT, _WAITING = "#2a6f97", "#b23a48", "#8a8f98", "#d9dee3"

_MISSING = "pictures need more libraries: pip install 'yendo[fleet]'"


def picture(course: Course, title: str, *, form: str = "svg", real: Sequence[tuple[str, int, int]] = ()) -> bytes:
    """The course as SVG or PNG. ``real`` are days with how many ended well and failed, drawn over it.

    Raises Usage where the library is missing.
    """
    days = [one.day[5:] for one in course.days]

    def draw(figure: Any) -> None:
        axes = figure.subplots()
        failed = [one.failed for one in course.days]
        done = [one.done for one in course.days]
        waiting = [one.waiting for one in course.days]
        silent = [one.silent for one in course.days]
        told = [a + b for a, b in zip(done, failed, strict=True)]
        bottom = [a + b for a, b in zip(told, silent, strict=True)]
        axes.bar(days, done, color=_DONE, label="ended well")
        axes.bar(days, failed, bottom=done, color=_FAILED, label="failed")
        axes.bar(days, silent, bottom=told, color=_SILENT, label="no report")
        axes.bar(days, waiting, bottom=bottom, color=_WAITING, label="still to come")
        if real:
            # by the day since it began: it hardly began on the day for which it was played
            first = date.fromisoformat(real[0][0])
            since = [(date.fromisoformat(day) - first).days for day, _, _ in real]
            axes.plot(since, [a + b for _, a, b in real], "k.-", label="as it really went")
        begins = [at for at, one in enumerate(course.days) if at == 0 or one.wave != course.days[at - 1].wave]
        top = max((a + b for a, b in zip(bottom, waiting, strict=True)), default=1)
        for at in begins:
            axes.axvline(at - 0.5, color="#555", linewidth=0.8, linestyle=":")
            axes.text(at - 0.4, top * 1.03, course.days[at].wave, va="bottom", ha="left", color="#333")
        axes.set_ylim(0, top * 1.14)
        axes.set_title(title, loc="left")
        axes.set_ylabel("machines")
        step = max(1, len(days) // 14)
        axes.set_xticks(range(0, len(days), step), days[::step])
        axes.spines[["top", "right"]].set_visible(False)
        figure.legend(loc="outside lower center", ncols=5, frameon=False)

    return drawn(draw, (10, 5), missing=_MISSING, form=form)


def went(said: Happened) -> bytes:
    """How a delivery really went, by day, as SVG. Raises Usage where the library is missing."""

    def draw(figure: Any) -> None:
        axes = figure.subplots()
        days, done = [one.day[5:] for one in said.days], [one.done for one in said.days]
        axes.bar(days, done, color=_DONE, label="ended well")
        axes.bar(days, [one.failed for one in said.days], bottom=done, color=_FAILED, label="failed")
        axes.axhline(len(said.places), color="#555", linewidth=0.8, linestyle=":")
        axes.set_ylim(0, len(said.places) * 1.35)
        axes.set_ylabel("computers")
        axes.spines[["top", "right"]].set_visible(False)
        axes.legend(loc="upper left", ncols=2, frameon=False, fontsize=9)

    return drawn(draw, (7, 2.6), missing=_MISSING)


def answers(sites: Sequence[str], answer: Sequence[int], title: str, *, form: str = "svg") -> bytes:
    """How many machines of each site answer yes, no and unknown (1, 0, -1), as SVG or PNG.

    Raises Usage where the library is missing.
    """
    counted = Counter(zip(sites, answer, strict=True))
    names = [name for name, _ in Counter(sites).most_common(20)][::-1]

    def draw(figure: Any) -> None:
        axes = figure.subplots()
        begun = [0] * len(names)
        for value, label, colour in ((1, "yes", _DONE), (0, "no", _WAITING), (-1, "unknown", _SILENT)):
            counts = [counted[name, value] for name in names]
            if any(counts):
                axes.barh(names, counts, left=begun, color=colour, label=label)
            begun = [a + b for a, b in zip(begun, counts, strict=True)]
        axes.set_title(title if len(title) < 90 else title[:87] + "...", loc="left")
        axes.set_xlabel("machines")
        axes.spines[["top", "right"]].set_visible(False)
        figure.legend(loc="outside lower center", ncols=3, frameon=False)

    return drawn(draw, (10, 1.4 + 0.4 * len(names)), missing=_MISSING, form=form)
