"""How many machines will fail, from what happened before: packages and sites differ, and few data give wide intervals.

The model: a package's rate of failure comes from a beta distribution that all packages share; a site's rate for that
package from one round the package's; failures at a site are binomial. What is shared (mean, how far packages differ,
how far sites differ) is not known: it is weighed on a grid by how well it explains the earlier outcomes (partial
pooling).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy.special import betainc, betaln, gammaln

if TYPE_CHECKING:
    from numpy.typing import NDArray

DRAWS = 4000
# Means of packages' rates; how alike packages are, and sites within one, as the size of a sample that says as much.
MEANS = np.array([0.002, 0.004, 0.007, 0.012, 0.02, 0.035, 0.06, 0.1, 0.17, 0.28])
ALIKE = np.array([1.5, 4.0, 12.0, 40.0, 120.0])
SITES_ALIKE = np.array([2.0, 6.0, 20.0, 60.0, 200.0, 2000.0])
_RATES = np.concatenate([[0.0005], np.linspace(0.001, 0.05, 50), np.linspace(0.055, 0.6, 110)])


class Tally(msgspec.Struct, frozen=True):
    """Outcomes of one package: at each site how many machines had it, and on how many it failed."""

    tried: tuple[int, ...]
    failed: tuple[int, ...]


class Expected(msgspec.Struct, frozen=True):
    """Failures among machines that are still to come: between ``low`` and ``high`` with the stated share, ``middle`` in
    the middle; ``causes`` the share of each, largest first; ``earlier`` how many outcomes this rests on.
    """

    low: int
    middle: int
    high: int
    share: float
    causes: tuple[tuple[str, float], ...]
    earlier: int
    packages: int


def expected(
    coming: Sequence[int],
    own: Tally,
    others: Iterable[Tally],
    causes: Mapping[str, int] = {},
    *,
    share: float = 0.9,
    seed: int = 1,
) -> Expected:
    """Failures among ``coming`` machines, by site (the sites of ``own`` first, in its order).

    ``own`` are this package's outcomes so far, ``others`` those of packages like it. Deterministic.
    """
    known = [one for one in others if sum(one.tried)]
    chance = np.random.default_rng(seed)
    weights, posterior = _weighed(own, known)
    cells = chance.choice(weights.size, DRAWS, p=weights)
    mean, alike, sites = np.unravel_index(cells, (len(MEANS), len(ALIKE), len(SITES_ALIKE)))
    rates = _rates(posterior, mean, alike, sites, chance)
    counts = np.zeros(DRAWS, np.int64)
    size = SITES_ALIKE[sites]
    for number, machines in enumerate(coming):
        if not machines:
            continue
        tried = own.tried[number] if number < len(own.tried) else 0
        failed = own.failed[number] if number < len(own.failed) else 0
        here = chance.beta(rates * size + failed + 1e-9, (1 - rates) * size + tried - failed + 1e-9)
        counts += chance.binomial(machines, here)
    low, high = _shortest(np.sort(counts), share)
    middle = int(np.quantile(counts, 0.5, method="nearest"))
    whole = sum(causes.values()) or 1
    ranked = sorted(causes.items(), key=lambda item: (-item[1], item[0]))
    return Expected(
        low, middle, high, share, tuple((name, count / whole) for name, count in ranked),
        sum(own.tried) + sum(sum(one.tried) for one in known), len(known) + bool(sum(own.tried)),
    )  # fmt: skip


def _shortest(counts: NDArray[np.int64], share: float) -> tuple[int, int]:
    """The shortest range that holds a share of counts in order: where few fail, the middle one would be too wide."""
    held = int(np.ceil(share * len(counts)))
    at = int(np.argmin(counts[held - 1 :] - counts[: len(counts) - held + 1]))
    return int(counts[at]), int(counts[at + held - 1])


def _likelihood(one: Tally, sites: float) -> NDArray[np.float64]:
    """The logarithm of how likely a package's outcomes are, for each rate of the grid."""
    tried = np.array(one.tried, np.float64)[:, None]
    failed = np.array(one.failed, np.float64)[:, None]
    a, b = _RATES * sites, (1 - _RATES) * sites
    return np.asarray((betaln(failed + a, tried - failed + b) - betaln(a, b)).sum(0))


def _prior(mean: float, alike: float) -> NDArray[np.float64]:
    """How likely each rate is for a package, before anything was seen of it."""
    a, b = mean * alike, (1 - mean) * alike
    edges = np.concatenate([[0.0], (_RATES[1:] + _RATES[:-1]) / 2, [1.0]])
    return np.asarray(np.maximum(np.diff(betainc(a, b, edges)), 1e-300))


def _weighed(own: Tally, others: Sequence[Tally]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The weight of each cell of the grid, and the chance of each rate for this package in each cell."""
    shape = (len(MEANS), len(ALIKE), len(SITES_ALIKE))
    priors = np.log(np.array([[_prior(mean, alike) for alike in ALIKE] for mean in MEANS]))
    score = np.zeros(shape)
    posterior = np.zeros((*shape, len(_RATES)))
    for at, sites in enumerate(SITES_ALIKE):
        for one in others:
            score[:, :, at] += _logsum(priors + _likelihood(one, sites))
        mine = priors + (_likelihood(own, sites) if sum(own.tried) else 0.0)
        score[:, :, at] += _logsum(mine)
        posterior[:, :, at] = np.exp(mine - _logsum(mine)[..., None])
    weights = np.exp(score - score.max()).ravel()
    return weights / weights.sum(), posterior


def _logsum(values: NDArray[np.float64]) -> NDArray[np.float64]:
    top = values.max(-1)
    return np.asarray(top + np.log(np.exp(values - top[..., None]).sum(-1)))


def _rates(
    posterior: NDArray[np.float64],
    mean: NDArray[np.int64],
    alike: NDArray[np.int64],
    sites: NDArray[np.int64],
    chance: np.random.Generator,
) -> NDArray[np.float64]:
    """A rate for each draw, from its cell's."""
    steps = np.cumsum(posterior[mean, alike, sites], axis=-1)
    picked = (steps < chance.random((len(mean), 1)) * steps[:, -1:]).sum(1)
    return np.asarray(_RATES[np.minimum(picked, len(_RATES) - 1)])


class StopRule:
    """Whether more machines of an office fail than it accepts, looked at after every report.

    ``machines`` says how many there are at each site. Two questions, each with half of ``risk``, so that an acceptable
    package is stopped with a chance of at most ``risk``, however often it is asked:

    - What was seen against every share of failures for each site whose mean over all machines is still acceptable,
      however unlike the sites are (the best of them, by a multiplier; universal inference).
    - What was seen against sites that are about alike and fail at an acceptable rate: quicker where there are many.
    """

    def __init__(self, limit: float, risk: float = 0.05, machines: Mapping[str, int] = {}) -> None:
        if not 0 < limit < 0.5 or not 0 < risk < 1:
            raise ValueError("a limit lies between 0 and 50 %, a risk between 0 and 100 %")
        self.limit, self.risk = limit, risk
        self._names = {name: number for number, name in enumerate(machines)}
        self._machines = np.array(list(machines.values()), np.float64)
        self._tried, self._failed = np.zeros(len(machines)), np.zeros(len(machines))
        good = limit * np.array([0.02, 0.1, 0.3, 0.6, 1.0])
        bad = np.minimum(limit * np.array([1.6, 2.5, 5.0, 12.0]), 0.9)
        sizes = np.array([15.0, 60.0, 2000.0])  # how alike a site's machines are
        rates, alike = np.meshgrid(np.concatenate([good, bad]), sizes, indexing="ij")
        self._a, self._b = (rates * alike).ravel(), ((1 - rates) * alike).ravel()
        self._good = np.repeat(np.arange(len(good) + len(bad)) < len(good), len(sizes))
        self._log = np.zeros(self._a.size)
        self.stops = False

    @property
    def tried(self) -> int:
        return int(self._tried.sum())

    @property
    def failed(self) -> int:
        return int(self._failed.sum())

    def report(self, site: str, *, failed: bool) -> bool:
        """One machine's outcome; whether it is time to stop. It is asked anew where one failed."""
        at = self._names.get(site)
        if at is None:
            at = self._names[site] = len(self._names)
            self._machines, self._tried, self._failed = (
                np.append(one, 0.0) for one in (self._machines, self._tried, self._failed)
            )
        tried, bad = self._tried[at], self._failed[at]
        whole = self._a + self._b + tried
        self._log += np.log((self._a + bad) / whole) if failed else np.log((self._b + tried - bad) / whole)
        self._tried[at] += 1
        self._failed[at] += failed
        self._machines[at] = max(self._machines[at], self._tried[at])
        if failed and not self.stops:
            self.stops = self.evidence >= 2 / self.risk
        return self.stops

    @property
    def evidence(self) -> float:
        """How many times likelier what was seen is where too many fail, than by the best acceptable explanation; the
        larger of the two questions' answers.
        """
        bad = self._log[~self._good]
        top = bad.max()
        mixed = top + np.log(np.exp(bad - top).mean())
        return float(np.exp(np.minimum(max(mixed - self._log[self._good].max(), mixed - self._best_acceptable()), 700)))

    def _best_acceptable(self) -> float:
        """The logarithm of how likely what was seen is, by the shares of failures whose mean is acceptable and that
        explain it best.
        """
        weight = self._machines / self._machines.sum()
        shares = np.where(self._tried > 0, self._failed / np.maximum(self._tried, 1), 0.0)
        if (weight * shares).sum() > self.limit:
            low, high = 0.0, self._tried.sum() / self.limit  # a share times its price is at most what was tried
            for _ in range(30):  # the multiplier with which the mean is just acceptable
                middle = (low + high) / 2
                shares = _shares(self._tried, self._failed, middle * weight)
                low, high = (middle, high) if (weight * shares).sum() > self.limit else (low, middle)
        inside = np.clip(shares, 1e-12, 1 - 1e-12)
        return float((self._failed * np.log(inside) + (self._tried - self._failed) * np.log1p(-inside)).sum())


def _shares(tried: NDArray[np.float64], failed: NDArray[np.float64], price: NDArray[np.float64]) -> NDArray[np.float64]:
    """The likeliest share of each site where a share has a price: the smaller root of price f^2 - (price + n) f + k."""
    whole = price + tried
    root = np.sqrt(np.maximum(whole * whole - 4 * price * failed, 0.0))
    return np.where(failed > 0, (whole - root) / np.maximum(2 * price, 1e-12), 0.0)


def at_the_end(tried: int, failed: int, limit: float, risk: float) -> bool:
    """The same question asked once, when all have reported, for machines that fail independently: the yardstick that a
    stop rule is held against. Source: the binomial test.
    """
    k = np.arange(failed, tried + 1)
    ways = gammaln(tried + 1) - gammaln(k + 1) - gammaln(tried - k + 1)
    return bool(np.exp(ways + k * np.log(limit) + (tried - k) * np.log1p(-limit)).sum() <= risk)
