"""Exact order statistics without sorting everything: counts on order-preserving keys, refined until few remain."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
Keys = npt.NDArray[np.uint64]

FEW = 1 << 18
_SIGN = np.uint64(1 << 63)


def keys_of(values: FloatArray) -> Keys:
    """Return whole numbers that are in the same order as the finite doubles given.

    Example:
        >>> keys = keys_of(np.array([-2.0, -0.0, 0.0, 1e-320, 3.0]))
        >>> bool(keys[0] < keys[1] == keys[2] < keys[3] < keys[4])
        True
    """
    bits = (values + 0.0).view(np.uint64)
    return np.where(bits & _SIGN, ~bits, bits | _SIGN)


@dataclass(frozen=True)
class RankSearch:
    """The search for the values at some ranks (0-based) among all values seen, in a few passes over them.

    A pass feeds every part of the data to `observe`, merges what comes back (in any order) and calls `advance`, until
    `found` holds the values. The first pass counts by the leading 16 bits, later ones by the next 16 within the
    buckets that hold a wanted rank; once few values are left in them, they are gathered and sorted.
    """

    shares: tuple[float, ...]
    bits: int = 0
    count: int = 0
    buckets: tuple[int, ...] = ()
    below: tuple[int, ...] = ()
    gather: bool = False
    found: FloatArray | None = None

    def observe(self, values: FloatArray) -> dict[int, npt.NDArray[np.int64]] | FloatArray:
        keys = keys_of(values)
        if self.bits == 0:
            return {0: np.bincount((keys >> np.uint64(48)).astype(np.int64), minlength=1 << 16)}
        prefix = keys >> np.uint64(64 - self.bits)
        if self.gather:
            return values[np.isin(prefix, np.array(self.buckets, dtype=np.uint64))]
        following = ((keys >> np.uint64(48 - self.bits)) & np.uint64(0xFFFF)).astype(np.int64)
        return {b: np.bincount(following[prefix == np.uint64(b)], minlength=1 << 16) for b in self.buckets}

    def merge(
        self, parts: Sequence[dict[int, npt.NDArray[np.int64]] | FloatArray]
    ) -> dict[int, npt.NDArray[np.int64]] | FloatArray:
        arrays = [part for part in parts if isinstance(part, np.ndarray)]
        if arrays:
            return np.concatenate(arrays)
        tables = [part for part in parts if isinstance(part, dict)]
        return {bucket: np.sum([table[bucket] for table in tables], axis=0) for bucket in tables[0]}

    def advance(self, merged: dict[int, npt.NDArray[np.int64]] | FloatArray) -> RankSearch:
        if isinstance(merged, np.ndarray):
            return self._finish(merged)
        if self.bits == 0:
            count = int(merged[0].sum())
            start = RankSearch(self.shares, count=count, buckets=(0,), below=(0,))
            return start._refine(merged) if count else RankSearch(self.shares, found=np.empty(0))
        return self._refine(merged)

    def ranks(self) -> list[int]:
        """Return the ranks of the order statistics between which each share lies."""
        wanted: set[int] = set()
        for share in self.shares:
            low = int(np.floor(share * (self.count - 1)))
            wanted |= {low, min(low + 1, self.count - 1)}
        return sorted(wanted)

    def _refine(self, counts: dict[int, npt.NDArray[np.int64]]) -> RankSearch:
        chosen: dict[int, tuple[int, int]] = {}
        for bucket, below in zip(self.buckets, self.below, strict=True):
            ends = below + np.cumsum(counts[bucket])
            for rank in self.ranks():
                if below <= rank < int(ends[-1]):
                    inner = int(np.searchsorted(ends, rank, side="right"))
                    start = int(ends[inner - 1]) if inner else below
                    chosen[(bucket << 16) | inner] = (start, int(counts[bucket][inner]))
        left = sum(size for _, size in chosen.values())
        bits = self.bits + 16
        buckets = tuple(sorted(chosen))
        below_each = tuple(chosen[bucket][0] for bucket in buckets)
        if bits == 64:  # all values of a bucket are equal: nothing is left to gather
            keys = np.array(buckets, dtype=np.uint64)
            sizes = np.array([chosen[bucket][1] for bucket in buckets])
            return RankSearch(self.shares, 64, self.count, buckets, below_each)._finish(
                np.repeat(_values_of(keys), np.minimum(sizes, 2)), capped=sizes
            )
        return RankSearch(self.shares, bits, self.count, buckets, below_each, left <= FEW)

    def _finish(self, gathered: FloatArray, capped: npt.NDArray[np.int64] | None = None) -> RankSearch:
        ordered = np.sort(gathered + 0.0)
        position: dict[int, float] = {}
        for bucket, below in zip(self.buckets, self.below, strict=True):
            inside = (keys_of(ordered) >> np.uint64(64 - self.bits)) == np.uint64(bucket)
            members = ordered[inside]
            for rank in self.ranks():
                size = len(members) if capped is None else int(capped[self.buckets.index(bucket)])
                if below <= rank < below + size:
                    position[rank] = float(members[0] if capped is not None else members[rank - below])
        values = [quantile_between(position, share, self.count) for share in self.shares]
        return RankSearch(self.shares, self.bits, self.count, found=np.array(values))


def quantile_between(at_rank: dict[int, float] | FloatArray, share: float, count: int) -> float:
    """Return a quantile that interpolates linearly between neighbouring order statistics.

    Args:
        at_rank: the order statistics by 0-based rank; those around the share must be there.
        share: between 0 and 1.
        count: how many values there are.

    Source: Hyndman & Fan, "Sample quantiles in statistical packages" (1996), definition 7.

    Example:
        >>> quantile_between(np.array([1.0, 2.0, 4.0]), 0.75, 3)
        3.0
    """
    place = share * (count - 1)
    low = int(np.floor(place))
    high = min(low + 1, count - 1)
    part = place - low
    a, b = float(at_rank[low]), float(at_rank[high])
    if a == b or part == 0:
        return a
    return float(Fraction(a) + Fraction(part) * (Fraction(b) - Fraction(a)))  # rounded once, and no overflow between


def quantiles_of(values: FloatArray, shares: Sequence[float]) -> list[float]:
    """Return quantiles of values held in memory.

    Example:
        >>> quantiles_of(np.array([3.0, 1.0, 2.0]), [0.5])
        [2.0]
    """
    ordered = np.sort(values + 0.0)
    return [quantile_between(ordered, share, len(ordered)) for share in shares]


def _values_of(keys: Keys) -> FloatArray:
    bits = np.where(keys & _SIGN, keys ^ _SIGN, ~keys)
    values: FloatArray = bits.view(np.float64)
    return values
