"""How a delivery would go: machines that are on and off, people who put it off, failures, pauses, the rule that stops.

It is played by the hour, before the first machine is touched; the real course is drawn over it later.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from yendo.fleet.chances import StopRule
from yendo.fleet.waves import Wave, Waves, part
from yendo.terms.amounts import seconds

if TYPE_CHECKING:
    from numpy.typing import NDArray

LONGEST = 200  # days that are played


class Habits(msgspec.Struct, frozen=True):
    """What is assumed of machines and people: the share that is on by day and by night, that has not been on for weeks,
    that puts it off when asked, and whose report does not come.
    """

    by_day: float = 0.85
    by_night: float = 0.35
    away: float = 0.03
    puts_off: float = 0.3
    silent: float = 0.01


class CourseDay(msgspec.Struct, frozen=True):
    """One day at its end: how many ended well, failed, gave no report, and are still to come; ``touched`` in the last
    hour.
    """

    day: str
    wave: str
    done: int
    failed: int
    silent: int
    waiting: int
    touched: int


class Course(msgspec.Struct, frozen=True):
    """The whole, as it was played once. ``ended`` says why: done, stopped, too few reports, late, not done in time."""

    days: tuple[CourseDay, ...]
    ended: str
    wave: str
    done: int
    failed: int
    left: int


def played(
    waves: Waves,
    groups: Sequence[NDArray[np.int64]],
    sites: Sequence[str],
    rates: NDArray[np.float64],
    habits: Habits,
    *,
    seed: int = 1,
) -> Course:
    """One course: ``groups`` are the machines of each wave, ``sites`` and ``rates`` (of failure) those of each machine.
    A wave without ``put_off`` is put off by nobody.

    Deterministic.
    """
    play = _Play(waves, groups, sites, rates, habits, np.random.default_rng(seed))
    for number, (wave, group) in enumerate(zip(waves.wave, groups, strict=True)):
        if why := play.wave(wave, group, last=number == len(groups) - 1):
            return play.ended(why, wave.name)
    play.day(waves.wave[-1].name, play.now, 0)
    return play.ended("done", waves.wave[-1].name)


class _Play:
    def __init__(
        self,
        waves: Waves,
        groups: Sequence[NDArray[np.int64]],
        sites: Sequence[str],
        rates: NDArray[np.float64],
        habits: Habits,
        chance: np.random.Generator,
    ) -> None:
        count = len(sites)
        self.waves, self.sites, self.habits, self.chance = waves, sites, habits, chance
        self.nights = chance.random(count) < habits.by_night  # who leaves a machine on, leaves it on every night
        self.away = chance.random(count) < habits.away
        self.fails = chance.random(count) < rates
        self.silent = chance.random(count) < habits.silent
        self.puts_off = chance.random(count) < habits.puts_off
        self.off = np.zeros(count, np.int64)
        self.state = np.full(count, 4, np.int8)  # 0 waits, 1 well, 2 failed, 3 no word of it, 4 is not meant
        for group in groups:
            self.state[group] = 0
        meant = Counter(sites[one] for group in groups for one in group)
        self.rule = StopRule(part(waves.stop.limit), part(waves.stop.risk), meant)
        self.now = datetime.combine(waves.begin, datetime.min.time())
        self.days: list[CourseDay] = []

    def wave(self, wave: Wave, group: NDArray[np.int64], *, last: bool) -> str:
        """Plays a wave until the next one may begin; why everything ends with it, empty where it does not."""
        opened = self.now
        told_at: datetime | None = None
        while self.now < opened + timedelta(days=LONGEST):
            waiting = group[self.state[group] == 0]
            touched = self._touch(wave, waiting)
            if self.rule.stops:
                self.day(wave.name, self.now, touched)
                return "stopped"
            self.now += timedelta(hours=1)
            if self.now.hour == 0:
                self.day(wave.name, self.now - timedelta(hours=1), touched)
            if wave.by and self.now.date() > wave.by:
                return "not done in time" if np.any(self.state[group] == 0) else ""
            told = float(np.isin(self.state[group], (1, 2)).mean()) if len(group) else 1.0
            if told_at is None and told >= part(self.waves.stop.reports):
                told_at = self.now
            patience = seconds(self.waves.stop.within) * (1 + (wave.put_off or 0))
            if told_at is None and (self.now - opened).total_seconds() > patience:
                return "too few reports"
            rested = told_at is not None and (self.now - told_at).total_seconds() >= seconds(wave.pause)
            if rested and (not last or not len(waiting) or bool(np.all(self.away[waiting]))):
                return ""
        return ""

    def _touch(self, wave: Wave, waiting: NDArray[np.int64]) -> int:
        """An hour: whoever is on and may be touched gets it, or puts it off. How many."""
        on = _on(waiting, self.now, self.nights, self.away, self.chance, self.habits)
        allowed = {site: self.waves.allows(site, self.now) for site in {self.sites[one] for one in on}}
        ready = [one for one in on if allowed[self.sites[one]]][: wave.at_once]
        for one in ready:
            if self.off[one] < (wave.put_off or 0) and self.puts_off[one]:
                self.off[one] += 1
                continue
            self.state[one] = 3 if self.silent[one] else 2 if self.fails[one] else 1
            if not self.silent[one] and self.rule.report(self.sites[one], failed=bool(self.fails[one])):
                break
        return len(ready)

    def day(self, wave: str, now: datetime, touched: int) -> None:
        done, failed, silent, waiting = (int((self.state == which).sum()) for which in (1, 2, 3, 0))
        self.days.append(CourseDay(now.date().isoformat(), wave, done, failed, silent, waiting, touched))

    def ended(self, why: str, wave: str) -> Course:
        done, failed, left = (int((self.state == which).sum()) for which in (1, 2, 0))
        return Course(tuple(self.days), why, wave, done, failed, left)


def _on(
    waiting: NDArray[np.int64], now: datetime, nights: NDArray[np.bool_], away: NDArray[np.bool_],
    chance: np.random.Generator, habits: Habits,
) -> NDArray[np.int64]:  # fmt: skip
    here = waiting[~away[waiting]]
    if 7 <= now.hour < 19 and now.weekday() < 5:
        return here[chance.random(len(here)) < habits.by_day]
    return here[nights[here]]
