"""What became of a delivery: by wave, site, system and cause, over time; who is silent, what has gone."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime, timedelta

import msgspec

from yendo.fleet.columns import Columns
from yendo.fleet.deliveries import Deliveries, DeliveryDecision, DeliveryPlace, Figures, PackageDelivery, hindrances
from yendo.fleet.index import written
from yendo.terms.amounts import seconds

STATES = ("done", "failed", "refused", "later", "silent", "waiting", "not yet")


class StateRow(msgspec.Struct, frozen=True):
    """How many computers of a kind are in each state, in the order of ``STATES``."""

    name: str
    counts: tuple[int, ...]


class CauseRow(msgspec.Struct, frozen=True):
    """A cause of failures: how many, a line that betrays it, and some of the computers."""

    cause: str
    count: int
    line: str
    computers: tuple[str, ...]


class DayRow(msgspec.Struct, frozen=True):
    """How many had ended well, and failed, at the end of a day."""

    day: str
    done: int
    failed: int


class Happened(msgspec.Struct, frozen=True, kw_only=True):
    """The whole of it. ``gone`` are computers that had it and do not have it any more, ``silent`` those whose turn came
    long ago (before ``late``) and that have told nothing; ``troubles`` what computers told before anything began, each
    with how many; ``overdue`` says of waves that had to be done by a day how many are not. ``places`` are all of them,
    ``now`` is when it was looked at.
    """

    delivery: PackageDelivery
    figures: Figures
    hindrances: tuple[str, ...]
    waves: tuple[StateRow, ...]
    sites: tuple[StateRow, ...]
    systems: tuple[StateRow, ...]
    causes: tuple[CauseRow, ...]
    days: tuple[DayRow, ...]
    gone: tuple[str, ...]
    silent: tuple[str, ...]
    troubles: tuple[tuple[str, int], ...]
    decisions: tuple[DeliveryDecision, ...]
    seconds: float | None
    places: tuple[DeliveryPlace, ...]
    now: datetime
    late: str
    overdue: tuple[str, ...]

    def state(self, one: DeliveryPlace) -> str:
        """A computer's state, one of ``STATES``."""
        return state_of(one, self.late)

    @property
    def sentence(self) -> str:
        """Where it stands, for the person who signed off."""
        counts = Counter[str]()
        for row in self.waves:
            counts.update(dict(zip(STATES, row.counts, strict=True)))
        whole = sum(counts.values())
        words = f"of {whole:,} computers {counts['done']:,} have it"
        mostly = f" ({'mostly: ' if len(self.causes) > 1 else ''}{self.causes[0].cause})" if self.causes else ""
        parts = [
            f"{counts[state]:,} {said}"
            for state, said in (
                ("failed", f"failed{mostly}"), ("refused", "are not meant (run conditions)"),
                ("later", "will try again"), ("silent", "have told nothing"), ("waiting", "are at it or off"),
                ("not yet", "have not had their turn"),
            )
            if counts[state]
        ]  # fmt: skip
        return words + "".join(f", {one}" for one in parts)


def happened(
    deliveries: Deliveries, number: int, now: datetime, columns: Columns | None = None, figures: Figures | None = None
) -> Happened:
    """What became of a delivery until now. ``columns`` tell the computers' systems, ``figures`` where it stands, if
    that was reckoned already. Raises Usage.
    """
    delivery = deliveries.one(number)
    places = deliveries.places(number)
    figures = figures or deliveries.figures(number, places)
    late = written(now - timedelta(seconds=seconds(delivery.waves.stop.within)))
    systems = _systems(columns)

    def state(one: DeliveryPlace) -> str:
        return state_of(one, late)

    names = [wave.name for wave in delivery.waves.wave]
    failed = [one for one in places if one.state == "failed"]
    took = sorted(one.seconds for one in places if one.state == "done" and one.seconds)
    since = datetime.fromisoformat(delivery.opened)
    return Happened(
        delivery=delivery, figures=figures, hindrances=tuple(hindrances(delivery, figures, now)),
        waves=tuple(sorted(_rows(places, lambda one: one.wave, state), key=lambda row: names.index(row.name))),
        sites=tuple(_rows(places, lambda one: one.site, state)),
        systems=tuple(_rows(places, lambda one: systems.get(one.computer, "(not known)"), state)),
        causes=tuple(_causes(failed)), days=tuple(_days(places)),
        gone=tuple(one.shown for one in places if one.there == "gone"),
        silent=tuple(one.shown for one in places if state(one) == "silent"),
        troubles=tuple(Counter(one.text for one in deliveries.troubles(since)).most_common(10)),
        decisions=tuple(deliveries.decisions(number)), seconds=took[len(took) // 2] if took else None,
        places=tuple(places), now=now, late=late, overdue=tuple(_overdue(delivery, places, now)),
    )  # fmt: skip


def state_of(one: DeliveryPlace, late: str) -> str:
    """A computer's state in words; one whose turn came before ``late`` and that has told nothing counts as silent."""
    if one.state != "waiting":
        return one.state
    return "not yet" if not one.ready else "silent" if one.ready < late else "waiting"


def _systems(columns: Columns | None) -> dict[str, str]:
    windows = columns.texts.get("windows") if columns is not None else None
    if columns is None or windows is None:
        return {}
    return {name.lower(): windows.at(number) or "(not known)" for number, name in enumerate(columns.computers)}


def _rows(
    places: Iterable[DeliveryPlace], of: Callable[[DeliveryPlace], str], state: Callable[[DeliveryPlace], str]
) -> list[StateRow]:
    counted: dict[str, Counter[str]] = defaultdict(Counter)
    for one in places:
        counted[of(one)][state(one)] += 1
    return [StateRow(name, tuple(counted[name][word] for word in STATES)) for name in sorted(counted)]


def _causes(failed: Sequence[DeliveryPlace]) -> list[CauseRow]:
    by_cause: dict[str, list[DeliveryPlace]] = defaultdict(list)
    for one in failed:
        by_cause[one.cause or f"exit code {one.code}"].append(one)
    return [
        CauseRow(cause, len(some), some[0].line, tuple(one.shown for one in some[:10]))
        for cause, some in sorted(by_cause.items(), key=lambda item: (-len(item[1]), item[0]))
    ]


def _overdue(delivery: PackageDelivery, places: Iterable[DeliveryPlace], now: datetime) -> Iterator[str]:
    open_ones = Counter(one.wave for one in places if one.state in ("waiting", "later", "failed"))
    for wave in delivery.waves.wave:
        if wave.by and now.date() > wave.by and (count := open_ones[wave.name]):
            yield f"{wave.name} had to be done by {wave.by}: {count:,} computers are not"


def _days(places: Iterable[DeliveryPlace]) -> list[DayRow]:
    counted: dict[str, Counter[str]] = defaultdict(Counter)
    for one in places:
        if one.ended:
            counted[one.ended[:10]][one.state] += 1
    done = failed = 0
    found = []
    for day in sorted(counted):
        done += counted[day]["done"]
        failed += counted[day]["failed"]
        found.append(DayRow(day, done, failed))
    return found
