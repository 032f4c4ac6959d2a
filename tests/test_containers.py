"""The same cells in every container give the same matrix, whatever lies beneath the missing ones."""

from __future__ import annotations

import copy
import datetime
import pickle
import unittest
from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.data.number_text import NumberForm, form_of
from facturum.data.table import Table
from facturum.data.values import Values
from facturum.engine.evaluate import LeafRows
from tests.expressions import TERMS
from tests.support import MIXED_TERMS, huts, plan

ROWS = 60
TERMS_READ = {
    "price": "impute(price, 'median', by=[way])",
    "beds": "beds - mean(beds, by=[open])",
    "way": "category(way, missing='category')",
    "open": "is_missing(open)",
    "truth": "open if open == True or open == False else 0",
    "year": "part(day, 'year')",
    "few": "lookup(beds, {1: 5, missing: -1}, 2)",
    "ordered": "lookup(way, {missing: 7}, 0)",
}


def cells(seed: int = 5) -> dict[str, list[Any]]:
    """Return columns of every kind with missing cells."""
    dice = np.random.default_rng(seed)

    def gaps(values: list[Any]) -> list[Any]:
        return [None if gone else value for value, gone in zip(values, dice.random(ROWS) < 0.25, strict=True)]

    first = datetime.date(2023, 1, 1)
    return {
        "price": gaps([float(v) for v in np.round(dice.uniform(5, 90, ROWS), 2)]),
        "beds": gaps([int(v) for v in dice.integers(0, 6, ROWS)]),
        "open": gaps([bool(v) for v in dice.integers(0, 2, ROWS)]),
        "way": gaps([str(v) for v in dice.choice(["trail", "road", "boat"], ROWS)]),
        "day": [first + datetime.timedelta(days=int(v)) for v in dice.integers(0, 900, ROWS)],
        "y": [float(v) for v in dice.uniform(0, 9, ROWS)],
    }


def poisoned(values: list[Any], kind: pa.DataType) -> pa.Array:
    """Return an Arrow array with the values of other rows beneath its missing cells."""
    present = [value for value in values if value is not None]
    full = pa.array([present[at % len(present)] if v is None else v for at, v in enumerate(values)], kind)
    valid = pa.array([value is not None for value in values])
    return pa.Array.from_buffers(kind, len(values), [valid.buffers()[1], *full.buffers()[1:]])


KINDS = {
    "price": pa.float64(),
    "beds": pa.int32(),
    "open": pa.bool_(),
    "way": pa.string(),
    "day": pa.date32(),
    "y": pa.float64(),
}


def containers(table: dict[str, list[Any]]) -> Iterator[tuple[str, Any]]:
    """Give the same cells in one container after the other."""
    arrow = pa.table({name: pa.array(values, KINDS[name]) for name, values in table.items()})
    yield "lists", table
    yield "arrow", arrow
    yield "poison in arrow", pa.table({name: poisoned(values, KINDS[name]) for name, values in table.items()})
    yield "record batch", arrow.to_batches()[0]
    yield "chunks", pa.concat_tables([arrow.slice(0, 7), arrow.slice(7, 0), arrow.slice(7)])
    for codes in (pa.int8(), pa.uint8(), pa.uint32(), pa.int64(), pa.uint64()):
        coded = [arrow.slice(a, b)["way"].combine_chunks().dictionary_encode() for a, b in ((0, 9), (9, 51))]
        ways = [pa.DictionaryArray.from_arrays(part.indices.cast(codes), part.dictionary) for part in coded]
        yield f"dictionary of {codes}", arrow.set_column(3, "way", pa.chunked_array(ways))
    for small in (pa.int8(), pa.uint16(), pa.float16(), pa.decimal128(19, 0), pa.decimal256(40, 2)):
        wide = arrow["beds"].cast(pa.int64())
        beds = pa.array(np.array(wide.fill_null(0)).astype(np.float16), mask=np.array(wide.is_null()))
        yield f"beds as {small}", arrow.set_column(1, "beds", beds if small == pa.float16() else wide.cast(small))
    yield "views", arrow.set_column(3, "way", arrow["way"].cast(pa.string_view()))
    masks = {name: np.array([v is None for v in values]) for name, values in table.items()}
    filled = {name: [values[0] or 3 if v is None else v for v in values] for name, values in table.items()}
    yield (
        "masked arrays",
        {
            **table,
            **{name: np.ma.MaskedArray(filled[name], masks[name]) for name in ("price", "beds", "open")},
            "day": np.array(table["day"], "datetime64[D]"),
        },
    )
    yield "other byte order", {**table, "y": np.array(table["y"], ">f8"), "price": np.array(table["price"], "float")}
    frame = pd.DataFrame(table)
    yield "pandas", frame
    yield "pandas, nullable", frame.astype({"price": "Float64", "beds": "Int64", "open": "boolean", "way": "string"})
    yield "pandas, category", frame.astype({"way": "category"})
    yield "pandas, arrow", arrow.to_pandas(types_mapper=pd.ArrowDtype)
    yield "dict of series", {name: frame[name] for name in frame}
    polars = pl.from_arrow(arrow)
    assert isinstance(polars, pl.DataFrame)
    yield "polars", polars
    yield "polars, categorical", polars.with_columns(pl.col("way").cast(pl.Categorical))
    yield "polars, enum", polars.with_columns(pl.col("way").cast(pl.Enum(["boat", "road", "trail"])))


class Containers(unittest.TestCase):
    def test_every_container_gives_the_same_matrix(self) -> None:
        wanted = fa.Plan("y", TERMS_READ).build(cells())
        for name, table in containers(cells()):
            with self.subTest(name):
                made = fa.Plan("y", TERMS_READ).build(table)
                self.assertEqual(made.names, wanted.names)
                self.assertEqual(made.rows.dropped.tolist(), wanted.rows.dropped.tolist())
                self.assertEqual(made.X.tobytes(), wanted.X.tobytes())

    @given(TERMS, st.integers(0, 10**6))
    @settings(max_examples=60, deadline=None)
    def test_operations_never_read_beneath_a_missing_value(self, text: str, seed: int) -> None:
        table, dice = huts(60, seed=seed, missing=0.2), np.random.default_rng(seed)
        outcomes = [_outcome(text, table)]
        plain = LeafRows.of

        def poison(rows: LeafRows, node: Any) -> Values:
            found = plain(rows, node)
            if found.valid is None or found.valid.all():
                return found
            data = found.data.copy() if len(found.data) == len(found.valid) else found.data.repeat(len(found.valid))
            data[~found.valid] = dice.choice(found.data[: 1 + len(found.data) // 2], np.count_nonzero(~found.valid))
            return Values(data, found.valid, found.labels)

        try:
            LeafRows.of = poison  # type: ignore[method-assign]
            outcomes.append(_outcome(text, table))
        finally:
            LeafRows.of = plain  # type: ignore[method-assign]
        self.assertEqual(outcomes[0], outcomes[1], text)

    def test_a_missing_key_belongs_to_no_unit_and_no_series(self) -> None:
        for hut in ([1, None, None, 1], [True, None, None, True], [1.0, None, None, 1.0], ["a", None, None, "a"]):
            table = {"hut": hut, "month": ["2023-01", "2023-01", "2023-02", "2023-02"], "x": [1.0, 2.0, 3.0, 4.0]}
            data = {"time": "month", "every": "month", "panel": ["hut"]}
            lagged = fa.Plan(None, {"x": "lag(x, 1)"}, data=data, rows={"missing": "keep"}, intercept=False)
            np.testing.assert_array_equal(lagged.build(table).X[:, 0], [np.nan, np.nan, np.nan, 1.0])
            zero = [type(hut[0])(0) if not isinstance(hut[0], str) else "0", hut[0]]
            rates = {"hut": [*zero, None], "month": ["2023-01"] * 3, "rate": [5.0, 7.0, 9.0]}
            series = {"s": {"time": "month", "every": "month", "match": ["hut"], "take": {"rate": {"how": "repeat"}}}}
            joined = fa.Plan(
                None, {"r": "s_rate"}, data=data, series=series, rows={"missing": "keep"}, intercept=False
            ).build(table, series={"s": rates})
            np.testing.assert_array_equal(joined.X[:, 0], [7.0, np.nan, np.nan, np.nan])

    def test_categories_and_dates_that_arrow_does_not_know(self) -> None:
        ages = pd.Series([3.0, 17.0, 42.0, None, 17.0])
        frame = pd.DataFrame({"age": pd.cut(ages, [0, 10, 20, 50]), "y": [1.0, 2.0, 4.0, 3.0, 5.0]})
        made = fa.Plan("y", {"age": "age"}).build(frame)
        self.assertEqual(made.names, ["intercept", "age_10_to_20", "age_20_to_50"])
        self.assertEqual(made.X[:, 1].tolist(), [0, 1, 0, 1])
        months = pd.DataFrame({"m": pd.PeriodIndex(["2023-01", "2023-02", None], freq="M"), "y": [1.0, 2.0, 3.0]})
        late = fa.Plan("y", {"late": "m > '2023-01'"}, variables={"m": {"kind": "time"}}).build(months)
        self.assertEqual(late.X[:, 1].tolist(), [0, 1])
        for unit in ("Y", "M", "W", "D", "h", "m", "s", "ms", "us", "ns", "ps"):
            moments = np.array(["1970-01-01", "NaT"], f"datetime64[{unit}]")
            self.assertEqual(Table.of({"t": moments})["t"].data.tolist()[0] // 864e8, 0)
            self.assertEqual(Table.of({"t": moments})["t"].missing_rows().tolist(), [False, True])

    @given(st.lists(st.decimals(-(10**12), 10**12, places=6), min_size=1, max_size=9))
    @settings(max_examples=40, deadline=None)
    def test_decimals_are_the_nearest_doubles(self, numbers: list[Decimal]) -> None:
        table = Table.of(pa.table({"x": pa.array(numbers, pa.decimal128(30, 6))}))
        self.assertEqual(table["x"].data.tolist(), [float(number) for number in numbers])

    def test_digits_are_never_lost_in_silence(self) -> None:
        long = [2**53 + 1, 2**53 + 3, 5]
        for values, kind in (
            (long, pa.int64()), (long, pa.uint64()), ([Decimal(v) for v in long], pa.decimal128(38, 0)),
            ([Decimal(10**30 + v) for v in (1, 2, 3)], pa.decimal256(60, 0)),
            ([Decimal(f"{v}.25") for v in long], pa.decimal128(38, 2)),
        ):  # fmt: skip
            table = pa.table({"x": pa.array(values, kind), "y": [1.0, 2.0, 3.0]})
            with self.subTest(str(kind)):
                with self.assertRaises(fa.FacturumError):
                    fa.Plan("y", "log(x)").build(table)
                as_category = fa.Plan("y", {"x": "category(x)"}, variables={"x": {"kind": "category"}})
                names = as_category.build(pa.concat_tables([table, table])).names
                self.assertEqual(len(names), 3, names)

    def test_tables_designs_and_plans_are_copied_and_pickled(self) -> None:
        table = Table.of(huts(40, missing=0))
        self.assertFalse(table == Table.of(huts(40, missing=0)))
        made = plan(MIXED_TERMS).build(table)
        for copied in (pickle.loads(pickle.dumps(made)), copy.deepcopy(made), copy.copy(made)):
            self.assertEqual(copied.X.tobytes(), made.X.tobytes())
            self.assertEqual(copied.plan, made.plan)
            self.assertEqual(copied.columns["price"], made.columns["price"])
            self.assertEqual(copied.plan.build(table).X.tobytes(), made.X.tobytes())
            self.assertTrue(copied.verify(table).ok)


def _outcome(text: str, table: dict[str, Any]) -> object:
    try:
        made = plan({"x": text}, rows={"missing": "keep"}, response=None).build(table)
    except fa.FacturumError as error:
        return type(error)
    return made.names, made.X.tobytes(), made.rows.dropped.tolist()


class NumberTexts(unittest.TestCase):
    def test_numbers_as_text_are_read_as_they_are_declared_and_never_by_accident(self) -> None:
        accepted = {"+5": 5.0, "-.5": -0.5, "5.": 5.0, "1e3": 1000.0, " 7 ": 7.0}
        for text in ("1_000", "0x10", "inf", "nan", "1e999", "١٢", "5%", "1,5", "", "--5", "1 000"):
            self.assertIsNone(NumberForm().number(text), text)
        for text, value in accepted.items():
            self.assertEqual(NumberForm().number(text), value)
        for form, text, value in (
            (NumberForm(thousands=","), "-1,234,567.5", -1234567.5),
            (NumberForm(",", "."), "1.234,5", 1234.5),
            (NumberForm(unit="€"), "-€ 5", -5.0),
            (NumberForm(unit="%"), "12.5 %", 12.5),
        ):
            self.assertEqual(form.number(text), value)
        self.assertIsNone(NumberForm(thousands=",").number("1,23"))

    def test_a_plan_reads_units_and_thousands(self) -> None:
        table = {"price": ["€ 1.200,50", "€ 80", None], "y": [1.0, 2.0, 3.0]}
        declared = {"price": {"kind": "number", "unit": "€", "decimal": ",", "thousands": "."}}
        made = fa.Plan("y", "price", variables=declared).build(table)
        self.assertEqual(made.X[:, 1].tolist(), [1200.5, 80.0])
        self.assertEqual(fa.Plan.from_text(str(made.plan)).build(table).X.tobytes(), made.X.tobytes())
        with self.assertRaisesRegex(fa.DataError, 'unit = "€"'):
            fa.Plan("y", "price", variables={"price": {"kind": "number"}}).build(table)

    def test_the_form_of_numbers_is_told(self) -> None:
        told: list[tuple[list[str], Callable[[Any], bool]]] = [
            (["1,234", "12,500"], lambda form: form.thousands == ","),
            (["1,5", "12,25"], lambda form: form.decimal == "," and not form.thousands),
            (["1.234,5", "7"], lambda form: (form.decimal, form.thousands) == (",", ".")),
            (["5 %", "7%"], lambda form: form.unit == "%"),
            (["5", "x"], lambda form: form is None),
        ]
        for texts, holds in told:
            self.assertTrue(holds(form_of(texts)), texts)
