"""Exact order statistics without sorting everything: counts on order-preserving keys, refined until few remain."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
Keys = npt.NDArray[np.uint64]
Counts = npt.NDArray[np.int64]

FEW = 1 << 20
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


# the leading 16 bits of doubles in the order of the doubles: the negative ones from the largest down come first
_IN_ORDER = np.concatenate([np.arange(0xFFFF, 0x7FFF, -1), np.arange(0x8000)])


def _leading_bits(values: FloatArray) -> npt.NDArray[np.intp]:
    bits = np.add(values, 0.0).view(np.uint64)
    np.right_shift(bits, np.uint64(48), out=bits)
    return bits.astype(np.intp)


@dataclass(frozen=True)
class RankSearch:
    """The search for the values at some ranks (0-based) among all values seen, in a few passes over them.

    A pass feeds every part of the data to `observe`, merges what comes back (in any order) and calls `advance`, until
    `values` holds them. The first pass counts by the leading 16 bits, later ones by the next 16 within the
    buckets that hold a wanted rank; once few values are left in them, they are gathered and sorted.

    Args:
        wanted: returns the ranks wanted among so many values.
    """

    wanted: Callable[[int], set[int]]
    bits: int = 0
    count: int = 0
    buckets: tuple[int, ...] = ()
    below: tuple[int, ...] = ()
    gather: bool = False
    values: dict[int, float] | None = None

    def observe(self, values: FloatArray) -> dict[int, Counts] | FloatArray:
        if self.bits == 0:
            return {0: np.bincount(_leading_bits(values), minlength=1 << 16)[_IN_ORDER]}
        if self.gather and self.bits == 16:
            chosen = np.zeros(1 << 16, dtype=bool)
            chosen[_IN_ORDER[list(self.buckets)]] = True
            return values[chosen[_leading_bits(values)]]
        keys = keys_of(values)
        inside = np.isin(keys >> np.uint64(64 - self.bits), np.array(self.buckets, dtype=np.uint64))
        if self.gather:
            return values[inside]
        keys = keys[inside]
        prefix = keys >> np.uint64(64 - self.bits)
        following = ((keys >> np.uint64(48 - self.bits)) & np.uint64(0xFFFF)).astype(np.int64)
        return {b: np.bincount(following[prefix == np.uint64(b)], minlength=1 << 16) for b in self.buckets}

    def merge(self, parts: Sequence[dict[int, Counts] | FloatArray]) -> dict[int, Counts] | FloatArray:
        arrays = [part for part in parts if isinstance(part, np.ndarray)]
        if arrays:
            return np.concatenate(arrays)
        tables = [part for part in parts if isinstance(part, dict)]
        return {bucket: np.sum([table[bucket] for table in tables], axis=0) for bucket in tables[0]}

    def advance(self, merged: dict[int, Counts] | FloatArray) -> RankSearch:
        if isinstance(merged, np.ndarray):
            return self._finish(merged)
        if self.bits == 0:
            count = int(merged[0].sum())
            start = replace(self, count=count, buckets=(0,), below=(0,))
            return start._refine(merged) if count else replace(self, values={})
        return self._refine(merged)

    def ranks(self) -> list[int]:
        """Return the ranks wanted."""
        return sorted(self.wanted(self.count))

    def _refine(self, counts: dict[int, Counts]) -> RankSearch:
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
            sizes = [chosen[bucket][1] for bucket in buckets]
            return replace(self, values=self._placed(_values_of(keys), below_each, sizes))
        return replace(self, bits=bits, buckets=buckets, below=below_each, gather=left <= FEW)

    def _placed(self, values: FloatArray, below: Sequence[int], sizes: Sequence[int]) -> dict[int, float]:
        return {
            rank: float(value)
            for rank in self.ranks()
            for value, start, size in zip(values, below, sizes, strict=True)
            if start <= rank < start + size
        }

    def _finish(self, gathered: FloatArray) -> RankSearch:
        ordered = np.sort(gathered + 0.0)
        prefix = keys_of(ordered) >> np.uint64(64 - self.bits)
        starts = np.searchsorted(prefix, np.array(self.buckets, dtype=np.uint64))
        values: dict[int, float] = {}
        for rank in self.ranks():
            inside = int(np.searchsorted(self.below, rank, side="right")) - 1
            values[rank] = float(ordered[int(starts[inside]) + rank - self.below[inside]])
        return replace(self, values=values)


def search_for(shares: Sequence[float]) -> RankSearch:
    """Return the search for the order statistics between which each share lies."""

    def wanted(count: int) -> set[int]:
        lows = [int(np.floor(share * (count - 1))) for share in shares]
        return {rank for low in lows for rank in (low, min(low + 1, count - 1))}

    return RankSearch(wanted)


def quantile_between(at_rank: Mapping[int, float] | FloatArray, share: float, count: int) -> float:
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
