"""The report of a build: one HTML page that holds all that it needs, and asks nothing of the network."""

from __future__ import annotations

import base64
import hashlib
import io
import json
from collections.abc import Iterator
from contextlib import suppress
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

import numpy as np
from markupsafe import Markup

from facturum.api.design import Design
from facturum.audit.checks.finding import times_text
from facturum.audit.map.entries import BinsEntry, ColumnEntry, ColumnMap, ImputationEntry
from facturum.audit.map.row_map import RowMap
from facturum.data.values import FloatArray
from facturum.engine.planning.sections.spec import spec_from
from facturum.errors import AuditError, FacturumError, counted, rows_in_words
from facturum.files.folder import write_file
from facturum.files.plan_file import plan_text
from facturum.numerics.shapes.histogram import all_whole
from facturum.show.builds.built import source_text
from facturum.show.builds.checks import leverages_text
from facturum.show.drawn import pictures
from facturum.show.terminal.expressions import abridged, rounded
from facturum.show.terminal.trial import coefficient_cells, summary_lines, truth_cells
from facturum.show.terminal.views import check_facts, clock_text, figure, learned_text
from facturum.trial.fit.trial import Trial

CELLS = 20  # of a histogram
MOST_CORRELATED = 40  # columns
SAMPLED = 50_000  # rows that correlations are computed from
POINTS = 1_500  # of a figure


def write_report(design: Design, path: Path) -> None:
    """Write the report of a build as one HTML file.

    Args:
        design: the build.
        path: of the file.

    Raises:
        DataError: where it cannot be written.
    """
    write_file(path, report_page(design))


def report_page(design: Design) -> str:
    """Return the report of a build as an HTML page."""
    style, script = _file("report.css"), _file("report.js")
    columns = design._audited
    spreads = dict(_spreads(design))
    context = {
        **_head(design),
        "style": Markup(style),
        "script": Markup(script),
        "style_hash": Markup(_hash(style)),
        "script_hash": Markup(_hash(script)),
        "notes": _notes(columns),
        "rows": _rows(columns, design.rows),
        "plan": plan_text(spec_from(columns.plan)),
        "resolved": plan_text(spec_from(columns.resolved)),
        "learned": [learned_text(each) for each in columns.learned],
        "checks": columns.checks,
        "terms": [{**t.model_dump(), "inflation": times_text(t.inflation), "per_column": times_text(t.per_column)}
                  for t in columns.terms],
        "columns": list(_columns(columns)),
        "measures": list(dict.fromkeys(entry.measure for entry in columns.columns)),
        "definitions": columns.definitions,
        "bins": [_bins(entry) for entry in columns.bins],
        "imputations": [_imputation(entry) for entry in columns.imputations],
        "drifts": _drifts(columns),
        "correlations": _correlations(design),
        "trial": _trial(design),
        "details": Markup(_json({entry.name: _detail(entry, columns, spreads) for entry in columns.columns})),
        "made": "Made with Facturum " + ", ".join(f"{name} {v}" for name, v in columns.made_with.items()) + ".",
    }  # fmt: skip
    context["sections"] = [
        (key, name)
        for key, name in (
            ("findings", "What to look at first"), ("rows", "Rows"), ("plan", "Plan"), ("checks", "Checks"),
            ("columns", "Columns"), ("preparation", "Preparation and drift"), ("correlations", "Correlations"),
            ("trial", "Trial regression"),
        )
        if key not in ("preparation", "correlations", "trial")
        or (key == "preparation" and (context["bins"] or context["imputations"] or context["drifts"]))
        or (key != "preparation" and context[key])
    ]  # fmt: skip
    return str(_template().render(**context))


@cache
def _template() -> Any:
    from jinja2 import Environment, StrictUndefined

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=False)
    return environment.from_string(_file("report.html"))


def _file(name: str) -> str:
    return resources.files("facturum.show").joinpath("page", name).read_text("utf-8")


def _hash(text: str) -> str:
    return "sha256-" + base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()


def _json(content: Any) -> str:
    """Return data for a page, in which nothing ends the element that holds it."""
    text = json.dumps(content, ensure_ascii=False, allow_nan=False)
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")


def _head(design: Design) -> dict[str, Any]:
    columns = design._audited
    response = columns.resolved.get("response")
    lines = [
        f"{counted(columns.rows.kept, 'row')} of {columns.rows.given:,}, "
        f"{counted(sum(e.role != 'response' for e in columns.columns), 'column')}"
    ]
    if columns.clock is not None:
        lines.append(clock_text(columns.clock) + ".")
    if columns.source is not None:
        lines.append(f"Data: {source_text(columns)}.")
    with suppress(AuditError):  # of a design that has not been saved
        lines.append(f"Seal of the build: {design.seal}")
    return {"title": f"Design matrix of {response}" if response else "Design matrix", "lines": lines}


def _notes(columns: ColumnMap) -> list[dict[str, str]]:
    notes = [{"level": "warning", "text": text} for text in columns.warnings]
    return notes + [{"level": "note", "text": each.text} for each in columns.findings if each.level == "note"]


def _rows(columns: ColumnMap, rows: RowMap) -> dict[str, Any]:
    counts = columns.rows
    held = counts.kept - counts.learned if counts.learned else 0
    parts = [
        ("learning rows" if counts.learned else "rows of the matrix", counts.kept - held, "bar"),
        *([("other rows of the matrix", held, "barsoft")] if held else []),
        *[(f"left out: {part.reason} in {part.place}", part.rows, "out") for part in counts.dropped],
    ]
    reasons = []
    for cause, (reason, place) in rows.reasons.items():
        own = np.sort(rows.dropped[rows.causes == cause])
        first = rows_in_words(own[:6].tolist(), len(own))
        reasons.append({"reason": reason, "place": place, "rows": f"{len(own):,}", "first": first})
    return {
        "sentence": f"{counts.given:,} rows went in, and {counts.kept:,} are rows of the matrix.",
        "picture": Markup(pictures.shares(parts, "What became of the rows")),
        "reasons": reasons,
        "absences": [
            f"{counted(each.rows, 'row')}: {each.why} ({each.alone:,} for this alone)" for each in counts.absences
        ],
        "leverages": leverages_text(columns),
    }


def _columns(columns: ColumnMap) -> Iterator[dict[str, Any]]:
    marked = {name for finding in columns.findings for name in finding.columns}
    for at, entry in enumerate(columns.columns):
        text = f"{entry.name} {entry.term} {entry.formula} {entry.reading} {' '.join(entry.sources)}".lower()
        yield {
            "name": entry.name,
            "measure": entry.measure,
            "text": text,
            "marked": entry.name in marked,
            "order": at,
            "position": "y" if entry.position is None else entry.position,
            "formula": abridged(rounded(entry.formula)),
            "mean": figure(entry.mean),
            "sd": figure(entry.sd),
            "inflation": "–" if entry.inflation is None else times_text(entry.inflation),
            "raw": {key: _raw(getattr(entry, key)) for key in ("mean", "sd", "inflation")},
            "reading": entry.reading,
        }


def _raw(value: float | None) -> float | str:
    return "" if value is None else value


def _detail(entry: ColumnEntry, columns: ColumnMap, spreads: dict[str, Any]) -> dict[str, Any]:
    facts = [
        ["term", entry.term],
        ["formula", entry.formula],
        ["sources", ", ".join(entry.sources)],
        ["reference", entry.reference],
        ["missing", f"{entry.missing:,} rows" if entry.missing else None],
        ["imputed", f"{entry.imputed:,} rows" if entry.imputed else None],
        ["values", f"from {figure(entry.min)} to {figure(entry.max)}, not zero in {counted(entry.nonzero, 'row')}"],
        *map(list, check_facts(entry, columns)),
        ["digest", entry.digest],
    ]
    by_source = [{"source": s.source, "value": s.value, "rows": s.rows} for s in entry.by_source[:40]]
    return {"facts": facts, "spread": spreads.get(entry.name), "by_source": by_source}


def _spreads(design: Design) -> Iterator[tuple[str, dict[str, Any]]]:
    """Yield the histogram of each column with more than two values."""
    entries = [
        entry
        for entry in design._audited.columns
        if entry.role == "predictor" and entry.measure not in ("indicator", "constant") and entry.min != entry.max
        and entry.min is not None and entry.max is not None
    ]  # fmt: skip
    places = [design.names.index(entry.name) for entry in entries]
    counts = np.zeros((len(entries), CELLS), dtype=np.int64)
    for X, _, _ in design.blocks():  # noqa: N806 - the field's standard name
        for at, (entry, place) in enumerate(zip(entries, places, strict=True)):
            values = X[:, place]
            low, high = float(entry.min or 0.0), float(entry.max or 0.0)
            wide = high / CELLS - low / CELLS  # which no large number overflows
            cells = np.clip(values[~np.isnan(values)] / wide - low / wide, 0, CELLS - 1)
            counts[at] += np.bincount(cells.astype(np.int64), minlength=CELLS)
    for entry, own in zip(entries, counts, strict=True):
        yield entry.name, {"low": figure(entry.min), "high": figure(entry.max), "counts": own.tolist()}


def _bins(entry: BinsEntry) -> dict[str, Any]:
    title = f"{entry.variable} in bins ({', '.join(entry.terms)})"
    rows = [(part.label, part.rows) for part in entry.bins]
    return {"title": title, "picture": Markup(pictures.bars(rows, f"rows in each bin of {entry.variable}"))}


def _imputation(entry: ImputationEntry) -> dict[str, Any]:
    sentence = f"{counted(entry.cells, 'cell')} of {counted(entry.rows, 'row')} filled by the {entry.how}"
    sentence += f"; missing in {entry.cells + entry.still_missing:,} of them before, in {entry.still_missing:,} after"
    if entry.response_difference is not None:
        sentence += f"; mean response where imputed less that where present: {entry.response_difference:.4g}"
    fills = [{"group": f.group or "all rows", "fill": _fill(f.fill), "cells": f"{f.cells:,}"} for f in entry.fills[:60]]
    title = f"{entry.variable} imputed by {entry.how} ({', '.join(entry.terms)})"
    return {"title": title, "sentence": sentence + ".", "fills": fills}


def _fill(fill: float | str | None) -> str:
    return fill if isinstance(fill, str) else figure(fill)


def _drifts(columns: ColumnMap) -> Markup | None:
    known = [(entry.name, entry.drift) for entry in columns.columns if entry.drift is not None]
    known.sort(key=lambda item: -abs(item[1]))
    return Markup(pictures.signed(known[:20], "drift of each column")) if known else None


def _correlations(design: Design) -> dict[str, Any] | None:
    entries = [e for e in design._audited.columns if e.role == "predictor" and e.sd]
    names = [entry.name for entry in entries][:MOST_CORRELATED]
    if len(names) < 2 or design._audited.rows.kept < 3:
        return None
    matrix = _sample(design, [design.names.index(name) for name in names])
    with np.errstate(all="ignore"):
        table: FloatArray = np.asarray(np.nan_to_num(np.corrcoef(matrix, rowvar=False)), dtype=np.float64)
    pairs = [(a, b, float(table[a, b])) for a in range(len(names)) for b in range(a + 1, len(names))]
    pairs.sort(key=lambda pair: -abs(pair[2]))
    return {
        "picture": Markup(pictures.heat(names, list(map(list, table)), "correlations between columns")),
        "largest": [(names[a], names[b], f"{r:+.3f}") for a, b, r in pairs[:12]],
    }


def _sample(design: Design, places: list[int]) -> FloatArray:
    step = max(design._audited.rows.kept // SAMPLED, 1)
    parts = [X[::step][:, places] for X, _, _ in design.blocks()]
    matrix = np.concatenate(parts)
    return np.asarray(matrix[~np.isnan(matrix).any(axis=1)])


def _trial(design: Design) -> dict[str, Any] | None:
    """Return the trial regression, where there is a response that it can be made of."""
    trial, instead = None, []
    for model, errors in _models(design):
        try:
            trial = design.trial(model, errors=errors)
            break
        except FacturumError as error:
            instead.append(f"Another model is shown, since {error.what}.")
    if trial is None:
        return None
    return {
        "title": trial.title,
        "statistic": trial.statistic_name,
        "units": trial.units,
        "coefficients": [
            [c.name, *coefficient_cells(c)]
            for c in trial.coefficients
        ],
        "lines": [*instead, *trial.cautions, *summary_lines(trial)],
        "effects": [effect.text for effect in trial.effects],
        "accuracy": [
            [a.sample, a.kind, f"{a.rows:,}", figure(a.rmse), figure(a.mae),
             "–" if a.mape is None else f"{a.mape:.1f} %", "–" if a.r2 is None else f"{a.r2:.4f}"]
            for a in trial.accuracy
        ] if not trial.truth else [],
        "truth": [truth_cells(a) for a in trial.truth],
        "tenths": [
            [a.sample, str(at + 1), f"{t.rows:,}", f"{t.predicted:.4f}", f"{t.observed:.4f}"]
            for a in trial.truth for at, t in enumerate(a.calibration)
        ],
        "picture": _figure(design, trial),
        "alt": f"Fitted against actual {trial.response}, residuals, and coefficients with their intervals",
    }  # fmt: skip


def _models(design: Design) -> list[tuple[str, str]]:
    """Return the models that the response asks for, each with how errors are computed, the best first.

    Of a response of 0 and 1 that is the logistic, of whole numbers from 0 Poisson's with robust errors, which hold
    where the variance is not the mean.
    """
    entries = [entry for entry in design.columns.columns if entry.role == "response"]
    linear = [("linear", "ordinary")]
    if len(entries) != 1:
        return linear
    low, high = entries[0].min, entries[0].max
    y = None if design.y is None else np.asarray(design.y)
    known = np.zeros(0) if y is None else y[~np.isnan(y)]
    if not len(known) or low is None or high is None or low < 0 or not all_whole(known):
        return linear
    return [("logistic", "ordinary") if (low, high) == (0, 1) else ("poisson", "hc1"), *linear]


def _figure(design: Design, trial: Trial) -> str:
    import matplotlib as mpl

    from facturum.show.drawn.figures import STYLE
    from facturum.show.drawn.trial_figure import trial_picture

    with mpl.rc_context({**STYLE, "svg.fonttype": "path", "path.simplify": True}):
        image = io.BytesIO()
        trial_picture(design, trial, most=POINTS).savefig(image, format="svg", metadata={"Date": None})
    return base64.b64encode(image.getvalue()).decode()
