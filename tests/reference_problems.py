"""Least-squares problems with certified results, and their exact solution in fractions."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

import numpy as np

LONGLEY = """
60323 83.0 234289 2356 1590 107608 1947
61122 88.5 259426 2325 1456 108632 1948
60171 88.2 258054 3682 1616 109773 1949
61187 89.5 284599 3351 1650 110929 1950
63221 96.2 328975 2099 3099 112075 1951
63639 98.1 346999 1932 3594 113270 1952
64989 99.0 365385 1870 3547 115094 1953
63761 100.0 363112 3578 3350 116219 1954
66019 101.2 397469 2904 3048 117388 1955
67857 104.6 419180 2822 2857 118734 1956
68169 108.4 442769 2936 2798 120445 1957
66513 110.8 444546 4681 2637 121950 1958
68655 112.6 482704 3813 2552 123366 1959
69564 114.2 502601 3931 2514 125368 1960
69331 115.7 518173 4806 2572 127852 1961
70551 116.9 554894 4007 2827 130081 1962
"""
LONGLEY_COEFFICIENTS = [
    -3482258.63459582, 15.0618722713733, -0.0358191792925910, -2.02022980381683, -1.03322686717359,
    -0.0511041056535807, 1829.15146461355,
]  # fmt: skip
LONGLEY_ERRORS = [
    890420.383607373, 84.9149257747669, 0.0334910077722432, 0.488399681651699, 0.214274163161675,
    0.226073200069370, 455.478499142212,
]  # fmt: skip
DEGREE_10_X = """
-6.860120914 -4.324130045 -4.358625055 -4.358426747 -6.955852379 -6.661145254 -6.355462942 -6.118102026 -7.115148017
-6.815308569 -6.519993057 -6.204119983 -5.853871964 -6.109523091 -5.79832982 -5.482672118 -5.171791386 -4.851705903
-4.517126416 -4.143573228 -3.709075441 -3.499489089 -6.300769497 -5.953504836 -5.642065153 -5.031376979 -4.680685696
-4.329846955 -3.928486195 -8.56735134 -8.363211311 -8.107682739 -7.823908741 -7.522878745 -7.218819279 -6.920818754
-6.628932138 -6.323946875 -5.991399828 -8.781464495 -8.663140179 -8.473531488 -8.247337057 -7.971428747 -7.676129393
-7.352812702 -7.072065318 -6.774174009 -6.478861916 -6.159517513 -6.835647144 -6.53165267 -6.224098421 -5.910094889
-5.598599459 -5.290645224 -4.974284616 -4.64454848 -4.290560426 -3.885055584 -3.408378962 -3.13200249 -8.726767166
-8.66695597 -8.511026475 -8.165388579 -7.886056648 -7.588043762 -7.283412422 -6.995678626 -6.691862621 -6.392544977
-6.067374056 -6.684029655 -6.378719832 -6.065855188 -5.752272167 -5.132414673 -4.811352704 -4.098269308 -3.66174277
-3.2644011
"""
DEGREE_10_Y = """
0.8116 0.9072 0.9052 0.9039 0.8053 0.8377 0.8667 0.8809 0.7975 0.8162 0.8515 0.8766 0.8885 0.8859 0.8959 0.8913 0.8959
0.8971 0.9021 0.909 0.9139 0.9199 0.8692 0.8872 0.89 0.891 0.8977 0.9035 0.9078 0.7675 0.7705 0.7713 0.7736 0.7775
0.7841 0.7971 0.8329 0.8641 0.8804 0.7668 0.7633 0.7678 0.7697 0.77 0.7749 0.7796 0.7897 0.8131 0.8498 0.8741 0.8061
0.846 0.8751 0.8856 0.8919 0.8934 0.894 0.8957 0.9047 0.9129 0.9209 0.9219 0.7739 0.7681 0.7665 0.7703 0.7702 0.7761
0.7809 0.7961 0.8253 0.8602 0.8809 0.8301 0.8664 0.8834 0.8898 0.8964 0.8963 0.9074 0.9119 0.9228
"""
DEGREE_10_COEFFICIENTS = [
    -1467.48961422980, -2772.17959193342, -2316.37108160893, -1127.97394098372, -354.478233703349, -75.1242017393757,
    -10.8753180355343, -1.06221498588947, -0.670191154593408e-01, -0.246781078275479e-02, -0.402962525080404e-04,
]  # fmt: skip
ORTHOGONAL = [759, -2048, 2048, -2048, 2523, -2048, 2048, -2048, 1838, -2048, 2048]  # to polynomials of degree 5


def longley() -> tuple[np.ndarray, np.ndarray]:
    """Return the 16 macroeconomic observations: predictors and response."""
    table = np.array([line.split() for line in LONGLEY.strip().splitlines()], dtype=float)
    return table[:, 1:], table[:, 0]


def degree_10() -> tuple[np.ndarray, np.ndarray]:
    """Return 82 observations of a curve of degree 10: x and y."""
    return np.array(DEGREE_10_X.split(), dtype=float), np.array(DEGREE_10_Y.split(), dtype=float)


def degree_5(scale: float) -> tuple[np.ndarray, np.ndarray]:
    """Return 1 + x + .. + x^5 at 0 to 20, with residuals of any size that are orthogonal to it."""
    x = np.arange(21.0)
    residuals = np.array([*ORTHOGONAL, *ORTHOGONAL[-2::-1]], dtype=float)
    return x, sum(x**power for power in range(6)) + scale * residuals


def one_way(leading: float, replicates: int) -> tuple[np.ndarray, np.ndarray]:
    """Return nine treatments whose values share their leading digits (after Simon & Lesage 1989)."""
    middles = [0.4, 0.3, 0.5, 0.4, 0.3, 0.5, 0.4, 0.3, 0.5]
    each = [[leading + m] + [leading + m + (0.1 if at % 2 else -0.1) for at in range(replicates - 1)] for m in middles]
    return np.repeat(np.arange(9), replicates), np.array(each).ravel()


def exact(columns: Sequence[np.ndarray], y: np.ndarray) -> list[Fraction]:
    """Return the least-squares coefficients of the stored doubles, without rounding, the intercept first."""
    rows = [[Fraction(1), *map(Fraction, row)] for row in zip(*[column.tolist() for column in columns], strict=True)]
    right = list(map(Fraction, y.tolist()))
    width = len(rows[0])
    system = [
        [sum((row[a] * row[b] for row in rows), Fraction(0)) for b in range(width)]
        + [sum((row[a] * each for row, each in zip(rows, right, strict=True)), Fraction(0))]
        for a in range(width)
    ]
    for at in range(width):
        pivot = system[at]
        for other in range(width):
            if other != at and system[other][at]:
                times = system[other][at] / pivot[at]
                system[other] = [a - times * b for a, b in zip(system[other], pivot, strict=True)]
    return [system[at][width] / system[at][at] for at in range(width)]


def digits(found: Sequence[float], wanted: Sequence[float]) -> float:
    """Return to how many digits the worst of some numbers agrees."""
    apart = [abs(a - b) / abs(b) if b else abs(a) for a, b in zip(found, wanted, strict=True)]
    return float(min(15.0, -np.log10(max(*apart, 1e-15))))
