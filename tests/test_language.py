"""The language: text to nodes and back, refusals, and values by tables of their own."""

from __future__ import annotations

import dataclasses
import gc
import importlib
import math
import pkgutil
import time
import unittest
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum import terms
from facturum.engine.planning.sections.column_names import column_names, names_from_text, slug
from facturum.language.families import REGISTRY
from facturum.language.reference import reference
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Column
from tests.expressions import TERMS
from tests.support import built, column_by_formula, huts, plan

TABLE = huts(60, seed=3, missing=0.2)
BASE = built(plan({"beds": "stays"}, response=None), TABLE)


class TextAndNodes(unittest.TestCase):
    @given(TERMS)
    @settings(max_examples=300)
    def test_text_to_nodes_and_back_is_lossless(self, text: str) -> None:
        node = parse(text)
        self.assertEqual(parse(str(node)), node)
        self.assertEqual(str(parse(str(node))), str(node))

    def test_brackets_stay_where_the_meaning_needs_them(self) -> None:
        for text in (
            "a - (b - c)", "(a - b) - c", "a / (b * c)", "-(a ** 2)", "(-a) ** 2", "(-2) ** 2", "-2 ** 2", "2 ** -b",
            "a ** (b ** c)", "(a ** b) ** c", "(a < b) < c", "a < b < c", "not (a and b)", "(not a) and b",
            "(a or b) and c", "a if b else (c if d else e)", "(a if b else c) if d else e", "(a if b else c) + 1",
            "a and (b if c else d)", "-(-3)", "--a", "not not a", "a - -3", "(a in ['x']) == b",
        ):  # fmt: skip
            with self.subTest(text):
                node = parse(text)
                self.assertEqual(parse(str(node)), node)
                self.assertLessEqual(len(str(node)), len(text))
        self.assertNotEqual(parse("a - (b - c)"), parse("a - b - c"))
        self.assertNotEqual(parse("a < b < c"), parse("(a < b) < c"))

    @given(st.text(min_size=1, max_size=30))
    def test_any_name_can_be_written(self, name: str) -> None:
        assume(not any("\ud800" <= char <= "\udfff" or char == "\0" for char in name))
        node = terms.variable(name).node
        self.assertEqual(parse(str(node)), node)

    def test_an_expression_may_span_lines_and_hold_comments(self) -> None:
        self.assertEqual(parse("price +  # per night\n  beds"), parse("price + beds"))

    def test_threads_may_read_texts_at_the_same_time(self) -> None:
        class Yielding:
            """Lets another thread run when it is collected, which may be while a text is read."""

            def __del__(self) -> None:
                time.sleep(0)

        text = str(parse("lookup(access, {" + ", ".join(f"'way {at}': {at}" for at in range(300)) + "})"))

        def read(times: int) -> set[str]:
            found = set()
            for _ in range(times):
                yielding = Yielding()
                yielding.itself = yielding  # type: ignore[attr-defined]
                found.add(str(parse(text)))
            return found

        thresholds = gc.get_threshold()
        gc.set_threshold(50)
        try:
            with ThreadPoolExecutor(4) as pool:
                self.assertEqual(list(pool.map(read, [25] * 4)), [{text}] * 4)
        finally:
            gc.set_threshold(*thresholds)

    def test_builders_make_the_same_nodes_as_the_text(self) -> None:
        pairs = {
            "log(price) * category(access, reference='trail')": terms.log("price")
            * terms.category("access", reference="trail"),
            "polynomial(beds / 10, 2, center=True)": terms.polynomial(terms.variable("beds") / 10, 2, center=True),
            "lookup([a, b], {('x', 1): 2}, otherwise=missing)": terms.lookup(["a", "b"], {("x", 1): 2}, terms.missing),
            "1 - (price > 3 and not open)": 1 - ((terms.variable("price") > 3) & ~terms.variable("open")),
            "-mean(price, by=[valley]) ** 2": -(terms.mean("price", by=["valley"]) ** 2),
            "valley == 'Upper' or beds <= 4": (terms.variable("valley") == "Upper") | (terms.variable("beds") <= 4),
        }
        for text, made in pairs.items():
            with self.subTest(text):
                self.assertEqual(made.node, parse(text))
        with self.assertRaisesRegex(fa.PlanError, "did you mean 'shift'"):
            terms.log("price", shft=1)  # type: ignore[call-arg]
        with self.assertRaisesRegex(AttributeError, "did you mean 'log'"):
            terms.lgo("price")  # type: ignore[attr-defined]

    def test_every_operation_is_in_the_reference_with_all_its_options(self) -> None:
        text = reference()
        for name, made in REGISTRY.items():
            entry = text.partition(f"### `{name}(")[2].partition("###")[0]
            self.assertIn("Example: ", entry, name)
            for field in dataclasses.fields(made):  # type: ignore[arg-type]
                self.assertIn(f"- `{field.name}`: ", entry, name)
            example = entry.partition("Example: `")[2].partition("`")[0]
            self.assertIn(parse(example).name, (name, ""), example)


HOSTILE = {
    "__import__('os').system('true')": "only operations can be called",
    "price.__class__": "dot after a name",
    "(lambda: 1)()": "only operations can be called",
    "[x for x in price]": "no meaning here",
    "{x: 1 for x in price}": "no meaning here",
    "price[0]": "square brackets",
    "f'{price}'": "formatted text",
    "(x := 3)": "':='",
    "open('file')": "operation 'open' not found",
    "eval('1')": "operation 'eval' not found",
    "9 ** 9 ** 9 ** 9 ** 9": None,
    "1e999": "too large",
    "9223372036854775808": "too many digits",
    "-9223372036854775808": "too many digits",
    "9" * 5000: "",
    "3j": "only numbers",
    "b'a'": "only numbers",
    "...": "only numbers",
    "(" * 101 + "a" + ")" * 101: "more than 100 deep",
    "a)(b": "never opened",
    "a" + "+a" * 9000: "too large or too deeply",
    "-" * 3000 + "a": "too large or too deeply",
    "a+" * 40_000 + "a": "longer than 64 kB",
    "a\0b": "not valid text",
    "'\ud800'": "not valid text",
    "ﬁle + 1": "would be read as 'file'",
    "": "empty",
    "  ": "empty",
    "a b": "not a valid expression: the rest cannot be read",
    "#\n#": "comma outside a list",
    "a = 3": "not a valid expression",
    "a, b": "comma outside a list",
    "*a": "",
    "log(*a)": "'*' before a name",
    "log(**a)": "'**' has no meaning",
    "not": "not a valid expression: it ends too early",
    "'abc": "a text begins that never ends",
    "log(a, (b]": "a bracket is closed by one of another kind",
    "lag(a, 01)": "a number begins with a zero",
    "a is b": "no meaning",
    "a in b": "'in' needs a list",
    "a & b": "operator has no meaning",
    "~a": "operator has no meaning",
    "yield a": "",
    "await a": "",
    "None": "no meaning here",
    "log(a, shift='x')": "shift of log must be a number",
    "category(a, order=[[1]])": "order of category must be",
    "category(a, reference=log(b))": "an option is a number",
    "lookup(a, {**b})": "an option is",
    "polynomial(a, 1000)": "must be a whole number from 1 to ",
    "quantile(a, 1.5)": "share between 0 and 1",
}


class Refusals(unittest.TestCase):
    def test_depth_and_ranges_are_bounded_where_it_is_said(self) -> None:
        self.assertEqual(str(parse("not " * 150 + "a")), "not " * 150 + "a")
        self.assertIn(", 1000])", str(parse("lag(a, range(1, 1001))")))
        self.assertEqual(str(parse("bins(a, count=99)")), "bins(a, count=99)")
        self.assertEqual(str(parse("(1 +\n-2) * a")), "(1 + -2) * a")
        largest = "mean_of(" + "a, " * 9997 + "a)"  # 10,000 parts: the operation, its name, and each member
        self.assertEqual(len(parse(largest).children()), 9998)
        with self.assertRaisesRegex(fa.PlanError, "too large"):
            parse(largest[:-1] + ", a)")
        for number in ("0", "0.5", "1", "-1"):
            self.assertEqual(str(parse(f"({number}) ** a")), f"{number} ** a" if number != "-1" else "(-1) ** a")
        with self.assertRaisesRegex(fa.PlanError, "too deeply nested"):
            parse("not " * 201 + "a")
        self.assertEqual(parse("lag(a, range(999998, 1000000))"), parse("lag(a, [999998, 999999])"))
        with self.assertRaisesRegex(fa.PlanError, "a range has whole numbers for its ends"):
            parse("lag(a, range(999998, 1000001))")

    def test_hostile_and_wrong_texts_are_refused_with_a_message(self) -> None:
        for text, said in HOSTILE.items():
            with self.subTest(text[:60]):
                if said is None:
                    parse(text)  # harmless: nothing is computed while it is read
                    continue
                with self.assertRaises(fa.PlanError) as caught:
                    parse(text)
                self.assertIn(said, str(caught.exception))

    @given(st.text(alphabet="ab(){}[]'\",.:=<>+-*/%&|^~!@#\\ \r\n\f\t019eé\u200b", max_size=60))
    @settings(max_examples=400, suppress_health_check=[HealthCheck.too_slow])
    def test_random_texts_are_read_or_refused(self, text: str) -> None:
        try:
            node = parse(text)
        except fa.PlanError as error:
            self.assertTrue(str(error))
        else:
            self.assertEqual(parse(str(node)), node)

    def test_the_place_of_a_mistake_is_marked(self) -> None:
        for text, marked in (
            ("log(prise) + béd.s", "béd.s"),
            ("  price + lgo(beds)", "lgo"),
            ("'é' + price[0]", "price[0]"),
            ("log(price, shft=1)", "shft=1"),
            ("price +\r beds.x", "beds.x"),
            ("price +\n beds.x", "beds.x"),
        ):
            with self.assertRaises(fa.PlanError) as caught:
                parse(text)
            start, end = caught.exception.span or (0, 0)
            self.assertEqual(text[start:end], marked)
            lines = str(caught.exception).splitlines()
            self.assertEqual(lines[2].index("^") - 4, start - (text.rfind("\n") + 1))
            self.assertEqual(lines[2].count("^"), len(marked))


class Values(unittest.TestCase):
    def test_three_valued_logic_has_the_truth_table_of_kleene(self) -> None:
        # Kleene, "Introduction to Metamathematics" (1952), section 64
        values = [True, False, None]
        table = {"p": [p for p in values for _ in values], "q": values * 3}
        made = built(fa.Plan(None, {"a": "is_missing(p)"}), table)
        wanted = {
            "p and q": [1, 0, None, 0, 0, 0, None, 0, None],
            "p or q": [1, 1, 1, 1, 0, None, 1, None, None],
            "not p": [0, 0, 0, 1, 1, 1, None, None, None],
        }
        for text, column in wanted.items():
            found = column_by_formula(made, text, range(9))
            self.assertEqual([None if math.isnan(v) else int(v) for v in found], column, text)

    def test_a_period_stands_for_all_of_it(self) -> None:
        table = {"month": ["2022-11", "2022-12", "2023-01", "2023-02", None], "y": [1, 2, 3, 4, 5]}
        made = built(fa.Plan(None, {"y": "y"}, data={"time": "month"}), table)
        wanted = {
            "month < '2023-01'": [1, 1, 0, 0], "month <= '2023-01'": [1, 1, 1, 0], "month > '2022-12'": [0, 0, 1, 1],
            "month >= '2022-12'": [0, 1, 1, 1], "month == '2022Q4'": [1, 1, 0, 0], "month != '2022'": [0, 0, 1, 1],
            "month in ['2022-11', '2023']": [1, 0, 1, 1], "'2022-12' <= month <= '2023-01'": [0, 1, 1, 0],
        }  # fmt: skip
        for text, column in wanted.items():
            found = column_by_formula(made, text, range(5))
            self.assertEqual(found[:4].tolist(), column, text)
            self.assertTrue(math.isnan(found[4]), text)

    def test_only_the_branch_taken_can_fail(self) -> None:
        table = {"x": [4.0, -1.0, 0.0], "y": [1.0, 2.0, 3.0]}
        made = fa.Plan(None, {"safe": "log(x) if x > 0 else missing", "y": "y"}).build(table)
        self.assertEqual(made.X[:, 1].tolist(), [math.log(4.0)])
        self.assertEqual(made.rows.dropped.tolist(), [2, 3])
        with self.assertRaisesRegex(fa.DataError, "2 rows"):
            fa.Plan(None, {"unsafe": "log(x)", "y": "y"}).build(table)


class State(unittest.TestCase):
    def test_every_record_is_frozen(self) -> None:
        packages = ("numerics", "data", "language", "engine", "audit")
        names = [found.name for found in pkgutil.walk_packages(fa.__path__, "facturum.")]
        modules = [importlib.import_module(name) for name in names if name.split(".")[1] in packages]
        records = {each for module in modules for each in vars(module).values() if dataclasses.is_dataclass(each)}
        own = [each for each in records if isinstance(each, type) and each.__module__.startswith("facturum.")]
        self.assertGreater(len(own), 100)
        thawed = [each.__qualname__ for each in own if not each.__dataclass_params__.frozen]  # type: ignore[attr-defined]
        self.assertEqual(thawed, [])


class Names(unittest.TestCase):
    @given(st.text(max_size=80))
    def test_a_name_has_only_plain_letters(self, text: str) -> None:
        self.assertRegex(slug(text), r"\A[a-z0-9_]+\Z")

    @given(st.lists(st.text(alphabet="aA _-2", max_size=4), min_size=1, max_size=8, unique=True))
    def test_categories_of_one_term_are_told_apart(self, labels: list[str]) -> None:
        columns = [Column((("category", label),), parse("x"), None) for label in labels]  # type: ignore[arg-type]
        names = column_names("term", columns)
        self.assertEqual(len(set(names)), len(labels))

    def test_a_name_ends_after_sixty_characters(self) -> None:
        self.assertEqual([slug("x" * length) for length in (60, 61)], ["x" * 60] * 2)
        self.assertEqual(slug("x" * 59 + " y"), "x" * 59)

    def test_names_follow_the_order_of_the_factors(self) -> None:
        table = huts(200, missing=0)
        made = plan(
            {
                "Access": "access",
                "curve": "polynomial(price, 3)",
                "pair": "[price, beds]",
                "slope": "category(access, reference='boat') * polynomial(price, 2)",
                "two": "category(open) * category(valley, reference='Far')",
                "flag": "category(open)",
            }
        ).build(table)
        wanted = (
            "intercept access_cable_car access_road access_trail curve curve_2 curve_3 pair_price pair_beds "
            "slope_cable_car slope_cable_car_2 slope_road slope_road_2 slope_trail slope_trail_2 "
            "two_true_lower two_true_upper flag_true"
        )
        self.assertEqual(made.names, wanted.split())

    def test_terms_given_as_a_list_are_named_by_their_text(self) -> None:
        self.assertEqual(list(names_from_text(["log(price)", "a * b"])), ["log_price", "a_b"])
        with self.assertRaisesRegex(fa.PlanError, "two terms would be called"):
            names_from_text(["a*b", "a + b"])
        self.assertEqual(fa.Plan(None, ["log(x)"]).build({"x": np.array([1.0, 2.0])}).names, ["intercept", "log_x"])
