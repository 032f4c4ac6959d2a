"""The same cells in every container give the same matrix, whatever lies beneath the missing ones."""

from __future__ import annotations

import copy
import csv
import datetime
import io
import pickle
import statistics
import unittest
import warnings
from collections.abc import Callable, Iterator
from contextlib import nullcontext
from decimal import Decimal
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.data.number_text import NumberForm, form_of
from facturum.data.table import Table
from facturum.data.values import Values, label_text
from facturum.engine.blocks.rows import LeafRows
from facturum.engine.passes.build import resolve
from facturum.language.syntax.parser import parse
from tests.expressions import TERMS
from tests.support import MIXED_TERMS, Folder, huts, plan

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


class MadeUp(pa.ExtensionType):
    """A type whose values only its maker knows how to read."""

    def __init__(self) -> None:
        super().__init__(pa.int64(), "made.up")

    def __arrow_ext_serialize__(self) -> bytes:
        return b""

    @classmethod
    def __arrow_ext_deserialize__(cls, storage_type: pa.DataType, serialized: bytes) -> MadeUp:
        return cls()


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
        plain = LeafRows.evaluate

        def poison(rows: LeafRows, node: Any) -> Values:
            found = plain(rows, node)
            if found.valid is None or found.valid.all():
                return found
            data = found.data.copy() if len(found.data) == len(found.valid) else found.data.repeat(len(found.valid))
            data[~found.valid] = dice.choice(found.data[: 1 + len(found.data) // 2], np.count_nonzero(~found.valid))
            return Values(data, found.valid, found.labels)

        try:
            LeafRows.evaluate = poison  # type: ignore[method-assign]
            outcomes.append(_outcome(text, table))
        finally:
            LeafRows.evaluate = plain  # type: ignore[method-assign]
        self.assertEqual(outcomes[0], outcomes[1], text)

    def test_a_missing_key_belongs_to_no_unit_and_no_series(self) -> None:
        for hut in ([1, None, None, 1], [True, None, None, True], [1.0, None, None, 1.0], ["a", None, None, "a"]):
            table = {"hut": hut, "month": ["2023-01", "2023-01", "2023-02", "2023-02"], "x": [1.0, 2.0, 3.0, 4.0]}
            data = {"time": "month", "every": "month", "panel": ["hut"]}
            lagged = fa.Plan(None, {"x": "lag(x, 1)"}, data=data, rows={"missing": "keep"}, intercept=False)
            np.testing.assert_array_equal(lagged.build(table).X[:, 0], [np.nan, np.nan, np.nan, 1.0])
            zero = [type(hut[0])(0) if not isinstance(hut[0], str) else "0", hut[0]]
            rates = {"hut": zero, "month": ["2023-01"] * 2, "rate": [5.0, 7.0]}
            series = {"s": {"time": "month", "every": "month", "match": ["hut"], "take": {"rate": {"how": "repeat"}}}}
            terms: dict[str, Any] = {"terms": {"r": "s_rate"}, "data": data, "series": series, "intercept": False}
            joined = fa.Plan(None, rows={"missing": "keep"}, **terms).build(table, series={"s": rates})
            np.testing.assert_array_equal(joined.X[:, 0], [7.0, np.nan, np.nan, np.nan])
            unknown = {"hut": [*zero, None], "month": ["2023-01"] * 3, "rate": [5.0, 7.0, 9.0]}
            with self.assertRaisesRegex(fa.DataError, "'hut' is missing(.|\n)*Row 3"):
                fa.Plan(None, **terms).build(table, series={"s": unknown})

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
            masked = np.ma.array(np.array(["1970-01-01", "NaT", "1970-01-01"], f"datetime64[{unit}]"), mask=[0, 0, 1])
            self.assertEqual(Table.of({"t": masked})["t"].missing_rows().tolist(), [False, True, True])

    def test_categories_and_columns_of_rarer_arrow_types(self) -> None:
        two_of = {
            "decimal": pa.array([Decimal("1.50"), Decimal("2.00")], pa.decimal128(5, 2)),
            "interval": pa.array([{"left": 0, "right": 10}, {"left": 10, "right": 20}]),
            "number": pa.array([7, 2**60 + 1]),
            "truth": pa.array([False, True]),
        }
        shown = {
            "decimal": (1.5, 2),
            "interval": ("0 to 10", "10 to 20"),
            "number": (7, 2**60 + 1),
            "truth": (False, True),
        }
        for kind, labels in two_of.items():
            found = Table.of(pa.table({"c": pa.DictionaryArray.from_arrays(pa.array([1, None, 0]), labels)}))["c"]
            self.assertEqual((found.labels, found.data.tolist()), (shown[kind], [1, -1, 0]))
        days = pa.array([datetime.date(1970, 1, 2), datetime.date(1970, 1, 1)])
        found = Table.of(pa.table({"c": pa.DictionaryArray.from_arrays(pa.array([1, None, 0]), days)}))["c"]
        self.assertEqual((str(found.kind), found.data[[0, 2]].tolist()), ("time", [0, 86_400_000_000]))
        runs = Table.of(pa.table({"r": pc.run_end_encode(pa.array([2.0, 2.0, None, 5.0]))}))["r"]
        self.assertEqual(
            (runs.data[[0, 1, 3]].tolist(), runs.missing_rows().tolist()), ([2, 2, 5], [False, False, True, False])
        )
        self.assertEqual(Table.of(pa.table({"b": pa.array([1, None], pa.bool8())}))["b"].data[0], 1)
        for unit in ("s", "ms", "us", "ns"):
            last = {"ns": "2262-04-11T23:47:16.854775"}.get(unit, "9999-12-30T23:59:59")
            found = Table.of(pa.table({"t": pa.array([np.datetime64(last, "us")]).cast(pa.timestamp(unit))}))["t"]
            self.assertEqual((found.data.dtype, found.data[0]), (np.int64, np.datetime64(last, "us").astype(np.int64)))
        first = Table.of(pa.table({"t": pa.array([datetime.date(1, 1, 1)], pa.date32())}))["t"]
        self.assertEqual(first.data.tolist(), [-62_135_596_800 * 1_000_000])
        for second, fine in ((253_402_300_799, True), (253_402_300_800, False), (-62_135_596_800, True)):
            moments = pa.table({"t": pa.array([second], pa.timestamp("s"))})
            with nullcontext() if fine else self.assertRaisesRegex(fa.DataError, "Row 1"):
                self.assertEqual(Table.of(moments)["t"].data.tolist(), [second * 1_000_000])
        with self.assertRaisesRegex(fa.DataError, "'h' has the type made.up, which cannot be part of a regression"):
            Table.of(pa.table({"h": pa.ExtensionArray.from_storage(MadeUp(), pa.array([1, 2]))}))

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
        results = [
            made.rows, made.columns, made.checks, made.trial(), made.trace(table, 1), made.verify(table),
            fa.profile(table), fa.compare(made, made), fa.validate(made.plan, table, folds=3),
        ]  # fmt: skip
        for each in results:
            self.assertTrue(each == pickle.loads(pickle.dumps(each)) == copy.deepcopy(each), type(each).__name__)
        self.assertFalse(made.rows == plan(MIXED_TERMS).build(Table.of(huts(41, missing=0))).rows)


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
        numbers = [f"{at % 999 + 1},{at:04d}"[:-1] for at in range(1200)]
        self.assertEqual(form_of(numbers), NumberForm(thousands=","))
        for at in (0, 1, 600, 601, 1200):  # wherever it stands, a word keeps the others from being numbers
            self.assertIsNone(form_of([*numbers[:at], "1,2 or 3", *numbers[at:]]))

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
        euros = [f"€ {at}.50" for at in range(50)] + ["€ NA"]
        with self.assertRaisesRegex(
            fa.PlanError, "51 categories.*the unit '€', and '€ NA' among .*\n(.|\n)*unit = \"€\""
        ):
            fa.Plan(None, "price").build({"price": euros})


class TextFiles(Folder):
    def read(self, text: str) -> Table:
        path = self.folder / "t.csv"
        path.write_text(text, encoding="utf-8", newline="")
        return fa.read(path)

    def test_empty_lines_of_one_column_are_missing_values(self) -> None:
        self.assertEqual(self.read("x\n1\n\n3\n")["x"].missing_rows().tolist(), [False, True, False])
        self.assertEqual(len(self.read("x,y\n1,2\n\n3,4\n")), 2)

    def test_line_ends_of_every_kind_are_the_same(self) -> None:
        wanted = self.read('a,b\n1,"x\ny"\n2,z\n').to_arrow()
        for end in ("\r\n", "\r"):
            self.assertEqual(self.read('a,b\n1,"x\ny"\n2,z\n'.replace("\n", end)).to_arrow(), wanted)
        self.assertEqual(self.read('a,b\r\n1,"x\ny"\r2,z').to_arrow(), wanted)

    def test_cells_over_several_lines_are_warned_of_where_they_are_rare(self) -> None:
        rows = "".join(f"{at},way {at % 3}\n" for at in range(300))
        table = self.read("y,way\n" + rows + '301,"way 1\n302,way 2"\n')
        self.assertEqual(
            table.notes,
            ("1 row of t.csv runs over several lines, the first from line 302: is a quote missing or left over?",),
        )
        made = fa.Plan("y", "way").build(table)
        self.assertIn("1 row of t.csv runs over several lines", " ".join(made.columns.warnings))
        self.assertEqual(self.read('a\n"x\ny"\n"z\nw"\n').notes, ())

    @given(
        st.lists(
            st.lists(st.text(st.sampled_from('ab",\n ;'), max_size=4), min_size=2, max_size=2), min_size=1, max_size=8
        )
    )
    @settings(max_examples=80, deadline=None)
    def test_whatever_a_csv_writer_writes_is_read_as_it_was(self, rows: list[list[str]]) -> None:
        text = io.StringIO()
        csv.writer(text, quoting=csv.QUOTE_ALL, lineterminator="\n").writerows([["p", "q"], *rows])
        table = self.read(text.getvalue())
        for at, name in enumerate(("p", "q")):
            found = table[name]
            labels = found.labels or ("",)
            cells = [
                None if gone else label_text(labels[int(code)])
                for code, gone in zip(found.data, found.missing_rows(), strict=True)
            ]
            self.assertEqual(cells, [row[at] or None for row in rows])

    def test_text_that_is_nearly_all_numbers_is_no_category_in_silence(self) -> None:
        table = {"price": [*map(str, range(30)), "n/a"] * 3, "y": [float(at % 7) for at in range(93)]}
        made = fa.Plan("y", {"p": "category(price)"}).build(table)
        self.assertIn(
            "price is a category of 31 texts, since 'n/a' among its values is not a number",
            " ".join(made.columns.warnings),
        )
        wide = {"price": [*map(str, range(60)), "n/a"] * 2, "y": [float(at % 7) for at in range(122)]}
        with self.assertRaisesRegex(
            fa.PlanError, 'would be 61 categories(.|\n)*missing_values(.|\n)*kind = "category"'
        ):
            fa.Plan("y", "price").build(wide)
        declared = fa.Plan("y", "price", variables={"price": {"kind": "category"}}).build(wide)
        self.assertEqual(declared.X.shape[1], 61)
        self.assertEqual(declared.columns.warnings, [])
        for words, told in ((4, True), (5, False)):  # of twenty texts: nearly all are four fifths
            texts = [*map(str, range(20 - words)), *"abcde"[:words]] * 2
            made = fa.Plan("y", "category(x)").build({"x": texts, "y": wide["y"][:40]})
            self.assertEqual(any("among its values are not numbers" in each for each in made.columns.warnings), told)
        codes = {"code": [f"{at:03d}" for at in range(60)] * 2, "y": wide["y"][:120]}
        self.assertEqual(fa.Plan("y", "code").build(codes).X.shape[1], 60)


class FarApart(unittest.TestCase):
    def test_statistics_of_huge_and_tiny_numbers_are_exact_or_refused_with_rows(self) -> None:
        for scale in (1e300, 1e-200, 1.0):
            table = {"x": [v * scale for v in (3.0, 1.0, 2.0, 4.0)], "y": [1.0, 2.0, 3.0, 4.0]}
            made = fa.Plan("y", {"z": "standardize(x)", "s": "x / sd(x)"}, intercept=False).build(table)
            sd = statistics.stdev([3.0, 1.0, 2.0, 4.0])
            np.testing.assert_allclose(made.X[:, 0], [(v - 2.5) / sd for v in (3.0, 1.0, 2.0, 4.0)], rtol=1e-14)
            np.testing.assert_allclose(made.X[:, 1], [v / sd for v in (3.0, 1.0, 2.0, 4.0)], rtol=1e-14)
        apart = {"x": [1.7e308, 1.7e308, 1.7e308, -1.7e308, None], "g": list("aaaab"), "y": [1.0, 2.0, 3.0, 4.0, 5.0]}
        with self.assertRaisesRegex(fa.DataError, "farther from its mean than double precision reaches(.|\n)*Row 4"):
            fa.Plan("y", "standardize(x)").build(apart)
        with self.assertRaisesRegex(fa.DataError, "farther from its mean"):
            fa.Plan("y", "sd(x, by=[g])").build(apart)
        for text in ("sd(x)", "sd(x, by=[y])", "standardize(x)"):
            with (
                self.assertRaisesRegex(fa.DataError, "the standard deviation of 'x' exceeds double precision"),
                warnings.catch_warnings(action="error"),
            ):
                fa.Plan(None, text).build({"x": [1.7e308, -1.7e308], "y": [1.0, 1.0]})
        with self.assertRaisesRegex(fa.DataError, "bins of width"):
            fa.Plan("y", "bins(x, width=1)").build(apart)
        with self.assertRaisesRegex(fa.DataError, "exceed double precision in 1 row(.|\n)*Row 4."):
            fa.Plan("y", "polynomial(x, 2, orthogonal=True)").build(apart)

    def test_groups_are_learned_wherever_their_rows_are(self) -> None:
        """Whole leaves without a usable row, as in data sorted by date, change nothing."""
        rows = 140_000
        day = np.arange(rows)
        group, x = day % 5, np.where(day < 100, np.nan, day % 11).astype(float)
        table = {
            "day": day,
            "g": group,
            "x": x,
            "late": np.where(day < 135_000, np.nan, 1.0),
            "none": np.full(rows, np.nan),
        }
        terms = {
            "a": "mean(x, by=[g])",
            "b": "impute(x, 'median', by=[g])",
            "c": "quantile(x, 0.7, by=[g])",
            "d": "impute(g, 'mode', by=[late])",
        }
        for condition in ("day >= 135000", "day < 400"):
            made = fa.Plan(None, terms, rows={"learn": condition, "missing": "keep"}, intercept=False).build(table)
            used = [
                (g, v)
                for g, v, d in zip(group, x, day, strict=True)
                if (d >= 135_000 if ">=" in condition else d < 400) and v == v
            ]
            means = [statistics.fmean(v for g, v in used if g == each) for each in range(5)]
            np.testing.assert_allclose(made.X[:5, 0], means, rtol=1e-14)
        with self.assertRaisesRegex(fa.DataError, "140,000 where a value is missing in terms.mean_x_by_none"):
            fa.Plan(None, "mean(x, by=[none])").build(table)

    def test_differences_are_learned_as_the_matrix_has_them(self) -> None:
        table = {"x": [1.0, 5.0, 2.0, 9.0, 4.0], "use": [True, False, True, True, True]}
        made = fa.Plan(None, "center(difference(x))", data={"every": "row"}, rows={"learn": "use"}).resolve(table)
        self.assertIn("at=-0.33333", next(iter(made.spec.terms.values())))  # the mean of 2 - 5, 9 - 2 and 4 - 9

    def test_thousands_of_groups_are_learned_saved_and_read_again(self) -> None:
        rows = 9000
        table = {"g": [f"group {at % 3000}" for at in range(rows)], "x": [float(at % 17) for at in range(rows)]}
        made = fa.Plan(None, {"m": "x - mean(x, by=[g])", "i": "impute(x, 'median', by=[g])"}).build(table)
        again = fa.Plan.from_text(str(made.plan)).build(table)
        self.assertEqual(again.X.tobytes(), made.X.tobytes())
        self.assertTrue(made.verify(table).ok)

    def test_what_is_learned_is_what_its_text_says(self) -> None:
        spec = plan(MIXED_TERMS | {"b": "bins(change, quantiles=3)", "p": "polynomial(beds, 3, orthogonal=True)"}).spec
        made = resolve(spec, Table.of(huts(300, seed=3)))
        self.assertEqual({key: parse(text) for key, text in made.spec.terms.items()}, dict(made.terms))

    def test_an_unseen_category_fails_however_the_matrix_is_written(self) -> None:
        table = {"way": ["a", "b", "c", "a"], "x": [1.0, 2.0, 3.0, None], "use": [True, True, False, True]}
        for terms in ({"w": "way"}, {"w": "way", "x": "x"}, {"w": "way * x"}, {"w": "[way]"}):
            for missing in ("keep", "drop"):
                with self.assertRaisesRegex(fa.DataError, "'c' in 1 row(.|\n)*Row 3"):
                    fa.Plan(None, terms, rows={"learn": "use", "missing": missing}).build(table)

    def test_ids_form_groups_before_and_after_resolving(self) -> None:
        table = {"id": ["a", "b", "a", "b"], "x": [1.0, 2.0, 3.0, 5.0], "y": [1.0, 2.0, 3.0, 4.0]}
        variables = {"id": {"kind": "id"}}
        made = fa.Plan("y", {"d": "x - mean(x, by=[id])"}, variables=variables).build(table)
        self.assertEqual(made.X[:, 1].tolist(), [-1.0, -1.5, 1.0, 1.5])
        self.assertEqual(made.plan.build(table).X.tobytes(), made.X.tobytes())
        with self.assertRaisesRegex(fa.PlanError, "is an id"):
            fa.Plan("y", "category(id)", variables=variables).build(table)
