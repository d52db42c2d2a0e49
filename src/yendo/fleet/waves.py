"""``waves.toml``: in which groups a package goes out, when each machine may be touched, and when to stop."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Annotated, Literal

from msgspec import Meta

from yendo.plan.reading import read_as, text_of
from yendo.terms.amounts import Text, Written, seconds
from yendo.terms.when import DAYS, Hours, in_hours

FILE = "waves.toml"
Share = Annotated[str, Meta(pattern=r"^\d{1,3}(\.\d+)? %$")]


def part(share: str) -> float:
    """``"5 %"`` as 0.05."""
    return float(share.removesuffix("%")) / 100


class When(Written, frozen=True, kw_only=True):
    """When machines may be touched: ``hours`` (over midnight too), ``days``, never on the dates of ``closed``."""

    hours: Hours | None = None
    days: tuple[Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"], ...] = ()
    closed: tuple[date, ...] = ()

    def allows(self, moment: datetime) -> bool:
        """Whether a machine may be touched at a local time."""
        day = moment.date()
        if self.hours:
            if not in_hours(moment.time(), self.hours):
                return False
            begin, end = self.hours.split("-")
            if begin > end and f"{moment:%H:%M}" < end:
                day -= timedelta(days=1)  # the night belongs to the day on which it began
        return day not in self.closed and (not self.days or DAYS[day.weekday()] in self.days)


class Wave(Written, frozen=True, kw_only=True):
    """A group of machines. ``size`` is a share of all that will get the package, a number, or what is left.

    ``cover`` chooses as few machines as cover ``share`` of what the others are like, by these columns and by the
    programs that the package touches. ``tag`` takes those of which the column ``tags`` has the word, ``computers``
    those that it names, ``listed`` those of a file (CSV with the column computer, or LDIF). A ``standing`` wave takes
    in who comes later; an ``offered`` one begins where somebody at the computer asks for it. ``pause`` is how long
    nothing new begins after it; ``by`` the day until which it must be done, and after which nobody puts it off;
    ``put_off`` how often a person may say later. Neither gives more than the package does, where it asks a person.
    """

    name: Text
    size: Annotated[str, Meta(pattern=r"^(\d{1,3}(\.\d+)? %|\d{1,7}|rest)$")] | None = None
    cover: tuple[Text, ...] = ()
    share: Share = "95 %"
    most: Annotated[int, Meta(ge=1)] | None = None
    tag: str | None = None
    at_once: Annotated[int, Meta(ge=1)] = 100
    pause: str = "1 day"
    by: date | None = None
    put_off: Annotated[int, Meta(ge=0, le=20)] | None = None
    computers: tuple[Text, ...] = ()
    listed: str | None = None
    standing: bool = False
    offered: bool = False

    def __post_init__(self) -> None:
        seconds(self.pause)
        if sum(bool(one) for one in (self.size, self.cover, self.tag, self.computers, self.listed)) != 1:
            raise ValueError("a wave is made by one of size, cover, tag, computers and listed")
        if self.standing and not (self.tag or self.listed):
            raise ValueError("a standing wave goes by a tag or a list: others do not tell who comes later")


class Stop(Written, frozen=True, kw_only=True):
    """``limit`` is the share of machines that may fail; ``risk`` the chance with which an acceptable package is stopped
    all the same, however often it is looked at. ``reports`` of a wave's machines must have come ``within`` a time.
    """

    limit: Share = "5 %"
    risk: Share = "5 %"
    reports: Share = "60 %"
    within: str = "3 days"
    two_persons: bool = False

    def __post_init__(self) -> None:
        seconds(self.within)
        if not 0 < part(self.limit) < 0.5 or not 0 < part(self.risk) < 1:
            raise ValueError("a limit lies between 0 and 50 %, a risk between 0 and 100 %")


class Waves(Written, frozen=True, kw_only=True):
    """The whole file. ``when`` holds at every site, ``site`` what is otherwise at one of them."""

    begin: date
    wave: Annotated[tuple[Wave, ...], Meta(min_length=1)]
    stop: Stop = Stop()
    when: When = When()
    site: dict[str, When] = {}

    def __post_init__(self) -> None:
        names = [one.name for one in self.wave]
        if twice := next((name for name in names if names.count(name) > 1), ""):
            raise ValueError(f"two waves are called {twice}")
        if rest := [one.name for one in self.wave[:-1] if one.size == "rest"]:
            raise ValueError(f"nothing is left for what comes after the wave {rest[0]}")
        if len({one.offered for one in self.wave}) > 1:
            raise ValueError("either every wave is offered or none: a delivery is one or the other")

    def allows(self, site: str, moment: datetime) -> bool:
        return self.site.get(site, self.when).allows(moment)


def read(path: Path) -> Waves:
    """Raises PlanError, with the line of each mistake."""
    missing = "there are no waves here; yendo fleet waves --new writes some to begin with"
    return read_as(text_of(path, missing), str(path), Waves)[0]


BEGIN = """# In which groups the package goes out.
# yendo fleet waves FOLDER says what each group would be, --play how it would go.
begin = {begin}

[stop]
limit = "5 %"       # more machines than this may not fail
risk = "5 %"        # the chance that a good package is stopped all the same
reports = "60 %"    # of a wave's machines must have reported ...
within = "3 days"   # ... in this time

[when]
days = ["mon", "tue", "wed", "thu"]
# hours = "18:00-22:00"   # machines that are off then come later: play it before

[[wave]]
name = "first"
cover = ["windows", "model", "site", "language"]
most = 40
pause = "2 days"

[[wave]]
name = "early"
size = "10 %"
pause = "2 days"

[[wave]]
name = "everybody"
size = "rest"
at_once = 200
put_off = 2
"""
