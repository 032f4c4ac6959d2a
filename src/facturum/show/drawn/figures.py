"""Figures: bins over a histogram, and the profile of a table."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import matplotlib as mpl
import numpy as np
from matplotlib.figure import Figure

from facturum.audit.map.entries import BinsEntry, PathEntry, PathLine
from facturum.data.time.calendar import period_of
from facturum.data.time.steps import STEPS
from facturum.data.values import Array
from facturum.errors import DataError
from facturum.files.folder import write_file
from facturum.look.profile import Profile, VariableProfile
from facturum.look.profile_text import figure_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK, FAINT, BAR, MARK = "#222831", "#8a94a0", "#4a7fb0", "#c8553d"
COLUMNS = 3
MAX_BARS = 12
MAX_PANELS = 30
LONGER = 1.8  # than the usual step, from which on a line is parted
APART = 8.0  # times the span of the smaller of two lines, from which on each has an axis of its own
STYLE: Any = {
    "font.size": 10,
    "axes.titlesize": 11,
    "axes.titleweight": "bold",
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.edgecolor": FAINT,
    "axes.labelcolor": INK,
    "text.color": INK,
    "xtick.color": FAINT,
    "ytick.color": FAINT,
    "date.converter": "concise",  # an axis of time is written in years, months or days, as far as it reaches
    "svg.hashsalt": "facturum",
}


def bins_figure(entries: Sequence[BinsEntry], path: Path) -> None:
    """Draw each binned variable: its histogram with the edges, above a bar for each bin.

    Raises:
        DataError: where the picture cannot be written.
    """
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(10, 6.2 * len(entries)), dpi=120, layout="constrained")
        grid = figure.subplots(2 * len(entries), 1, squeeze=False)
        for at, entry in enumerate(entries):
            _spread(grid[2 * at][0], entry)
            _bars(grid[2 * at + 1][0], entry)
        save(figure, path)


def _spread(axes: Axes, entry: BinsEntry) -> None:
    if entry.histogram is not None:
        edges = np.linspace(entry.histogram.low, entry.histogram.high, len(entry.histogram.counts) + 1)
        axes.bar(edges[:-1], entry.histogram.counts, np.diff(edges), align="edge", color=BAR, alpha=0.75, linewidth=0)
    ends = {end for part in entry.bins for end in (part.low, part.high) if end is not None}
    for edge in sorted(ends):
        axes.axvline(edge, color=MARK, linewidth=1.6)
        axes.annotate(
            figure_text(edge),
            (edge, 1.0),
            xycoords=("data", "axes fraction"),
            xytext=(3, -10),
            textcoords="offset points",
            color=MARK,
            fontsize=9,
        )
    axes.set_title(f"{plain(entry.variable)}: where the edges lie", loc="left")
    axes.set_ylabel("rows")


def _bars(axes: Axes, entry: BinsEntry) -> None:
    labels = [plain(part.label) for part in entry.bins]
    axes.bar(range(len(labels)), [part.rows for part in entry.bins], color=BAR, width=0.7)
    top = max((part.rows for part in entry.bins), default=1) or 1
    for at, part in enumerate(entry.bins):
        lines = [f"{part.rows:,} ({part.percent:.1f} %)"]
        if part.mean_response is not None:
            lines.append(f"mean response {part.mean_response:.4g}")
        axes.text(at, part.rows + 0.02 * top, "\n".join(lines), ha="center", va="bottom", fontsize=9)
    seen = [
        f"{label}\nseen {figure_text(part.smallest)} to {figure_text(part.largest)}" if part.rows else label
        for label, part in zip(labels, entry.bins, strict=True)
    ]
    axes.set_xticks(range(len(labels)), seen if len(labels) <= 8 else labels, rotation=0 if len(labels) <= 8 else 45)
    axes.tick_params(axis="x", colors=INK, length=0)
    axes.set_ylim(0, 1.25 * top)
    axes.set_title(f"{plain(entry.variable)}: rows in each bin", loc="left")
    axes.set_ylabel("rows")


def profile_figure(profile: Profile, path: Path) -> None:
    """Draw a profile: histograms with quantiles marked, bars for categories, correlations between numbers.

    Raises:
        DataError: where there is nothing to draw, or the picture cannot be written.
    """
    drawn = [v for v in profile if v.cells or v.values][:MAX_PANELS]
    matrix = len({name for a, b, _ in profile.correlations for name in (a, b)}) > 1
    if not drawn:
        raise DataError("there is nothing to draw", remedy="Name a number or a category.")
    columns = min(COLUMNS, len(drawn) + matrix)
    rows = -(-len(drawn) // columns)
    height = 2.6 * rows + (4.6 if matrix else 0.0)
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(4.4 * columns if columns > 1 else 8, height + 0.4), dpi=110, layout="constrained")
        ratios = [2.6] * rows + ([4.6] if matrix else [])
        grid = figure.add_gridspec(rows + matrix, columns, height_ratios=ratios)
        for at, variable in enumerate(drawn):
            axes = figure.add_subplot(grid[at // columns, at % columns])
            if variable.cells and len(variable.values) == 0:
                _histogram(axes, variable)
            else:
                _categories(axes, variable)
        if matrix:
            _correlations(figure, figure.add_subplot(grid[rows, :]), profile)
        save(figure, path)


def _histogram(axes: Axes, variable: VariableProfile) -> None:
    edges = float(variable.smallest or 0) + (variable.cell_width or 0.0) * np.arange(len(variable.cells) + 1)
    axes.bar(edges[:-1], variable.cells, np.diff(edges), align="edge", color=BAR, alpha=0.75, linewidth=0)
    for _, value in variable.quantiles:
        axes.axvline(value, color=MARK, linewidth=1.3)
    marks = ", ".join(f"{100 * share:.3g} %: {figure_text(value)}" for share, value in variable.quantiles[:4])
    axes.set_title(_headline(variable), loc="left")
    axes.set_xlabel(marks, color=MARK, fontsize=9)


def _categories(axes: Axes, variable: VariableProfile) -> None:
    shown = list(variable.values) if len(variable.values) <= MAX_BARS else list(variable.most_frequent)
    labels = [plain(label if len(label) <= 18 else label[:16] + "..") for label, _ in shown]
    places = range(len(shown))
    axes.barh(places, [count for _, count in shown], color=BAR, alpha=0.75)
    axes.set_yticks(places, labels)
    axes.invert_yaxis()
    axes.tick_params(axis="y", colors=INK, length=0)
    axes.set_title(_headline(variable), loc="left")
    if len(shown) < variable.distinct:
        axes.set_xlabel(f"the {len(shown)} most frequent of {variable.distinct:,}", fontsize=9)


def _headline(variable: VariableProfile) -> str:
    missing = f" ({100 * variable.missing_share:.1f} % missing)" if variable.missing else ""
    return plain(variable.name) + missing


def _correlations(figure: Figure, axes: Axes, profile: Profile) -> None:
    names = list(dict.fromkeys(name for a, b, _ in profile.correlations for name in (a, b)))
    matrix = np.eye(len(names))
    for a, b, r in profile.correlations:
        matrix[names.index(a), names.index(b)] = matrix[names.index(b), names.index(a)] = r
    image = axes.imshow(matrix, vmin=-1, vmax=1, cmap="RdBu_r", aspect="auto")
    axes.set_xticks(range(len(names)), [plain(name) for name in names], rotation=30, ha="right")
    axes.set_yticks(range(len(names)), [plain(name) for name in names])
    axes.tick_params(colors=INK, length=0)
    for i in range(len(names)):
        for j in range(len(names)):
            colour = "white" if abs(matrix[i, j]) > 0.6 else INK
            axes.text(j, i, f"{matrix[i, j]:.2f}", ha="center", va="center", color=colour, fontsize=9)
    axes.set_title("correlations between numbers", loc="left")
    figure.colorbar(image, ax=axes, shrink=0.85)


def plain(text: str) -> str:
    """Return a text in which nothing is taken for mathematics or a control character."""
    shown = "".join(char if char.isprintable() else "?" for char in text)
    return shown.replace("$", r"\$")


def save(figure: Figure, path: Path) -> None:
    figure.get_layout_engine().set(h_pad=0.12, w_pad=0.12)  # type: ignore[union-attr, call-arg]
    kind = path.suffix.lower().lstrip(".")
    metadata = {"png": {"Software": None}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}.get(kind)
    image = io.BytesIO()
    try:
        figure.savefig(image, format=kind or "png", metadata=metadata)
    except (OSError, ValueError) as problem:
        raise DataError(f"{path} cannot be drawn: {problem}", remedy="Name a .png file.") from None
    write_file(path, image.getvalue())


def paths_figure(entries: Sequence[PathEntry], path: Path) -> None:
    """Draw columns along time over their sources, a panel for each column and unit.

    Raises:
        DataError: where the picture cannot be written.
    """
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(10, 3.4 * len(entries)), dpi=120, layout="constrained")
        grid = figure.subplots(len(entries), 1, squeeze=False)
        for at, entry in enumerate(entries):
            _lines(grid[at][0], entry)
        save(figure, path)


def _lines(axes: Axes, entry: PathEntry) -> None:
    styles: list[dict[str, Any]] = [
        {"color": MARK, "linewidth": 2.0, "zorder": 3},
        {"color": BAR, "linewidth": 1.2, "alpha": 0.8, "marker": ".", "markersize": 4},
        {"color": FAINT, "linewidth": 0, "marker": "o", "markersize": 5},
    ]
    drawn = [_dated(line) for line in entry.lines]
    apart = len(drawn) > 1 and _differ_in_size(drawn[0][1], drawn[1][1])
    handles: list[Any] = []
    for at, (line, (moments, values)) in enumerate(zip(entry.lines, drawn, strict=True)):
        style = styles[2] if line.name.split(" by ")[-1] in STEPS else styles[min(at, 1)]
        own_axes = axes.twinx() if apart and at == 1 else axes
        label = plain(line.name) + (" (right)" if own_axes is not axes else "")
        handles += own_axes.plot(moments, values, label=label, **style)
        dots(own_axes, moments, values, style["color"])
        if own_axes is not axes:
            own_axes.tick_params(colors=BAR)
            own_axes.spines["right"].set_visible(True)
    handles += _filled(axes, entry)
    within = f", {plain(entry.unit)}" if entry.unit else ""
    axes.set_title(f"{plain(entry.column)}{within}", loc="left")
    axes.legend(handles=handles, frameon=False, fontsize=9, loc="lower left", bbox_to_anchor=(0.0, -0.32), ncols=2)


def _filled(axes: Axes, entry: PathEntry) -> list[Any]:
    """Mark where a column has a value and its source in the same period has none."""
    column, *sources = entry.lines
    if not sources or sources[0].periods != column.periods:
        return []
    pairs = zip(column.periods, column.values, sources[0].values, strict=True)
    found = [(period, value) for period, value, source in pairs if value is not None and source is None]
    if not found:
        return []
    moments, values = _dated(PathLine(name="", periods=[p for p, _ in found], values=[v for _, v in found]))
    label = f"where {plain(sources[0].name)} is missing"
    ring: dict[str, Any] = {"marker": "o", "markersize": 5, "markerfacecolor": "none", "linewidth": 0, "zorder": 4}
    return list(axes.plot(moments, values, color=MARK, label=label, **ring))


def _dated(line: PathLine) -> tuple[Array, Array]:
    """Return the moments and the values of a line, parted where periods are missing."""
    periods = [period_of(period) for period in line.periods]
    moments = np.array([0 if period is None else period.start for period in periods], dtype="datetime64[us]")
    return parted(moments, np.array([np.nan if value is None else value for value in line.values]))


def parted(moments: Array, values: Array) -> tuple[Array, Array]:
    """Return a line parted where periods are missing.

    Args:
        moments: datetime64, increasing.
        values: doubles.
    """
    if len(moments) < 3:
        return moments, values
    steps = np.diff(moments).astype(np.int64)
    after = np.flatnonzero(steps > LONGER * np.median(steps)) + 1
    return np.insert(moments, after, moments[after - 1]), np.insert(values, after, np.nan)


def dots(axes: Axes, moments: Array, values: Array, colour: str) -> None:
    """Mark values between two that are missing, which no line would show."""
    there = np.isfinite(np.concatenate([[np.nan], values, [np.nan]]))
    alone = there[1:-1] & ~there[:-2] & ~there[2:]
    axes.plot(moments[alone], values[alone], color=colour, linewidth=0, marker="o", markersize=3.5, zorder=3)


def _differ_in_size(a: Array, b: Array) -> bool:
    """Return whether two lines are of so different a size that one would look flat beside the other."""
    spans = [float(np.nanmax(v) - np.nanmin(v)) if np.isfinite(v).any() else 0.0 for v in (a, b)]
    if not min(spans) > 0 or not np.isfinite(spans).all():
        return False
    together = max(float(np.nanmax(v)) for v in (a, b)) - min(float(np.nanmin(v)) for v in (a, b))
    return together > APART * min(spans)
