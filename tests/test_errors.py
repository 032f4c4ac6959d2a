"""Bad input: a message that shows the place, the rows and the remedy; nothing is lost and nothing half written."""

from __future__ import annotations

import math
import re
import tomllib
import unittest
import unittest.mock
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.engine.planning.sections.spec import spec_from
from facturum.files.plan_file import parse_plan, plan_text
from tests.expressions import TERMS
from tests.support import Folder, command, huts, stands_where_it_says

TABLE: dict[str, Any] = {
    "price": [3.0, 0.0, -2.0, 5.0, 8.0, 9.0],
    "beds": [1, 2, 3, 4, 5, 6],
    "access": ["road", "trail", "road", "trail", "boat", "road"],
    "guest": ["a", "b", "c", "d", "e", "f"],
    "comfort": ["poor", "good", "fair", "good", "poor", "fair"],
    "month": ["2023-01", "2023-02", "2023-03", "2023-04", "2023-05", "2023-06"],
    "amount": ["1", "2.5", "3", "n.a.", "4", "5"],
    "code": [10, 20, 10, 20, 30, 10],
    "stays": [5.0, 6.0, 7.0, 8.0, 9.0, 11.0],
    "gaps": [1.0, None, 2.0, None, 3.0, 4.0],
    "none": [None] * 6,
    "q 1": [1, 2, 3, 4, 5, 6],
}


@dataclass(frozen=True)
class Bad:
    """A plan that must be refused, and what the message must say."""

    said: list[str]
    terms: dict[str, str] = field(default_factory=lambda: {"beds": "beds"})
    response: str | None = "stays"
    sections: dict[str, Any] = field(default_factory=dict)
    table: dict[str, Any] | None = None
    kind: type[Exception] = fa.PlanError


CLOCK = {"time": "month", "every": "month"}

CASES = {
    "a step without a time": Bad(
        ["the plan does not define how rows follow one another"],
        {"x": "lag(price, 1)"},
        sections={"data": {"every": "month"}},
    ),
    "a lag of nothing": Bad(
        ["lag counts periods from 1, and 0 is the row's own period", "Write price itself, or lead(price, 1)."],
        {"x": "lag(price, 0)"},
        sections={"data": {"every": "row"}},
    ),
    "a lag the other way": Bad(
        ["-2 is 2 periods the other way", "lead(price, 2)"],
        {"x": "lag(price, [1, -2])"},
        sections={"data": {"every": "row"}},
    ),
    "a lag twice": Bad(["a shift is named twice"], {"x": "lag(price, [1, 1])"}, sections={"data": {"every": "row"}}),
    "a lag of a block": Bad(
        ["lag works on one column, and 'category(access)' is a block"],
        {"x": "lag(category(access), 1)"},
        sections={"data": {"every": "row"}},
    ),
    "several lags of a category": Bad(
        ["several shifts of a category are not allowed"],
        {"x": "lag(access, [1, 2])"},
        sections={"data": {"every": "row"}},
    ),
    "a lag without time": Bad(["lag works along time", "every = "], {"x": "lag(price, 1)"}),
    "a window of nothing": Bad(
        ["window of moving_average must be a whole number from 1"],
        {"x": "moving_average(price, 0)"},
        sections={"data": {"every": "row"}},
    ),
    "more of a window than it has": Bad(
        ["a window of 2 has 2 values, and 3 are asked for"],
        {"x": "moving_sum(price, 2, at_least=3)"},
        sections={"data": {"every": "row"}},
    ),
    "a change from nothing": Bad(
        ["'percent_change(price)' is infinite", "Row 3."],
        {"x": "percent_change(price)"},
        sections={"data": {"every": "row"}},
        kind=fa.DataError,
    ),
    "a step not known": Bad(
        ["data.every: 'fortnight' is not one of the choices", "'month'"],
        sections={"data": {"time": "month", "every": "fortnight"}},
    ),
    "a season without dates": Bad(
        ["a season needs a time"],
        {"x": "season('month')"},
        sections={"data": {"every": "row"}},
    ),
    "a season not known": Bad(
        ["month 'january' not found", "jan, feb"],
        {"x": "season('month', reference='january')"},
        sections={"data": {"time": "month", "every": "month"}},
    ),
    "a reference of waves": Bad(
        ["the coding 'waves' has no reference"],
        {"x": "season('month', coding='waves', reference='jan')"},
        sections={"data": {"time": "month", "every": "month"}},
    ),
    "converted to no step": Bad(
        ["convert: the table is converted to the plan's step, and the plan names none"],
        sections={"convert": {"every": "day", "take": {"beds": {"how": "sum", "partial": "keep"}}}},
    ),
    "pairs of what is no wave": Bad(
        ["pairs is valid only with the coding 'waves'"],
        {"x": "season('month', reference='jan', pairs=2)"},
        sections={"data": {"time": "month", "every": "month"}},
    ),
    "too many waves": Bad(
        ["4 parts allow 2 pairs of waves"],
        {"x": "season('quarter', coding='waves', pairs=3)"},
        sections={"data": {"time": "month", "every": "month"}},
    ),
    "too many waves of months": Bad(
        ["12 parts allow 6 pairs of waves"],
        {"x": "season('month', coding='waves', pairs=7)"},
        sections={"data": {"time": "month", "every": "month"}},
    ),
    "periods since no date": Bad(
        ["'soon' is not a valid period", "2023-04"],
        {"x": "periods_since('soon')"},
        sections={"data": {"time": "month", "every": "month"}},
    ),
    "periods since a number variable": Bad(
        ["'price' is not a time"],
        {"x": "periods_since(price)"},
        sections={"data": {"time": "month", "every": "month"}},
    ),
    "a time that is a number of things": Bad(
        ["'price' holds 6 values", "that cannot be read as a time"],
        {"x": "lag(beds, 1)"},
        sections={"data": {"time": "price", "every": "month"}},
        kind=fa.DataError,
    ),
    "bins of one value": Bad(
        ["too narrow for 3 bins of equal width"],
        {"x": "bins(x, count=3)"},
        table={"x": [2.0, 2.0, 2.0], "stays": [1.0, 2.0, 3.0]},
        kind=fa.DataError,
    ),
    "a width that is too wide": Bad(
        ["all of it is in one bin", "smaller width"], {"x": "bins(beds, width=100)"}, kind=fa.DataError
    ),
    "a width that is too narrow": Bad(
        ["bins of width 0.001", "at most 1000 bins"], {"x": "bins(beds, width=0.001)"}, kind=fa.DataError
    ),
    "imputing a time": Bad(
        ["impute works on one number or category, and 'month' is a time"],
        {"x": "impute(month, 'mode')"},
        sections={"data": {"time": "month", "every": "month"}},
    ),
    "groups along time": Bad(
        ['groups are valid only with "median"'],
        {"x": "impute(gaps, 'previous', by=[access])"},
        sections={"data": {"every": "row"}},
    ),
    "a series without a table": Bad(
        ["series.s: the table of the series 's' is not given", "series={'s': table}"],
        sections={"series": {"s": {"time": "q", "every": "quarter", "take": {"x": {"how": "repeat"}}}}},
        kind=fa.DataError,
    ),
    "edges not increasing": Bad(
        ["edges are not increasing: 3 comes before 2", "^^^"], {"x": "bins(price, edges=[3, 2])"}
    ),
    "no way to cut": Bad(["bins need edges, a width, a count or quantiles", "quantiles="], {"x": "bins(price)"}),
    "a median of a category": Bad(
        ["a category has no median", 'Write impute(.., "mode")'], {"x": "impute(access, 'median')"}
    ),
    "neighbours and a written value": Bad(
        ['"linear" fills from neighbours'],
        {"x": "impute(gaps, 'linear', otherwise=1)"},
        sections={"data": {"every": "row"}},
    ),
    **{
        f"digits that no double holds, in {text}": Bad(["9007199254740993 loses digits as a number"], {"x": text})
        for text in (
            "center(beds, at=9007199254740993)",
            "center(beds, at=-9007199254740993)",
            "bins(beds, edges=[9007199254740993])",
            "bins(beds, edges=[[3, 9007199254740993]])",
            "impute(gaps, value=9007199254740993)",
            "lookup(access, {'road': 9007199254740993}, 0)",
            "lookup(access, {'road': 1}, 9007199254740993)",
            "beds in [9007199254740993]",
        )
    },
    "imputing where a group has nothing": Bad(
        ["'x' is missing in every learning row of 2 groups of g: b; c\n", "Form larger groups"],
        {"x": "impute(x, 'median', by=[g])"},
        table={"x": [1.0, None, None, 2.0], "g": ["a", "b", "c", "a"], "stays": [1.0, 2.0, 3.0, 4.0]},
        kind=fa.DataError,
    ),
    "along time without a time": Bad(
        ["impute works along time, and the plan does not define how rows follow one another", "[data] time"],
        {"x": "impute(gaps, 'previous')"},
    ),
    "reverse outside its scale": Bad(
        ["'reverse(price, 1, 5)' is not defined for these values in 4 rows", "Rows 2, 3, 5, 6.", "missing_if(price"],
        {"x": "reverse(price, 1, 5)"},
        kind=fa.DataError,
    ),
    "a range and a code in it": Bad(
        ["named twice, also by the range '1..2'"],
        {"x": "regroup(c, {'a': ['1..2'], 'b': ['2']})"},
        table={"c": ["1", "2", "3", "1"], "stays": [1.0, 2.0, 3.0, 4.0]},
    ),
    "a stack of different kinds": Bad(
        ["stack.into.v: columns of different kinds", "beds is a number, access is a category"],
        sections={"stack": {"into": {"v": ["beds", "access"]}, "which": "w"}},
        kind=fa.DataError,
    ),
    "a stack key not known": Bad(
        ["[stack] does not have this key; did you mean 'which'?"],
        sections={"stack": {"into": {"v": ["beds"]}, "whihc": "w"}},
    ),
    "a period twice within a unit": Bad(
        ["a month occurs more than once of the same hut in the table: 1 row too many", "Rows 1, 3."],
        {"x": "impute(x, 'next')"},
        sections={"data": {"time": "month", "every": "month", "panel": ["hut"]}},
        table={
            "x": [1.0, None, 2.0],
            "hut": ["a", "a", "a"],
            "month": ["2023-01", "2023-02", "2023-01"],
            "stays": [1.0, 2.0, 3.0],
        },
        kind=fa.DataError,
    ),
    "unknown variable": Bad(
        [
            "terms.x: variable 'prise' not found; did you mean 'price'?",
            "log(prise)",
            "    ^^^^^",
            "The table has",
        ],
        {"x": "log(prise)"},
    ),
    "unknown operation": Bad(["operation 'logg' not found; did you mean 'log'?", "^^^^"], {"x": "logg(price)"}),
    "log of a category": Bad(
        ["log needs a number, and 'access' is a category variable", "Write category(access)"], {"x": "log(access)"}
    ),
    "log of an ordered one": Bad(
        ["is an ordered variable", "score(comfort)"],
        {"x": "log(comfort)"},
        sections={"variables": {"comfort": {"kind": "ordered", "order": ["poor", "fair", "good"]}}},
    ),
    "text that is nearly a number": Bad(
        ["'amount' is text, since 'n.a.' among its values is not a number", "missing_values"], {"x": "log(amount)"}
    ),
    "text that is numbers with a comma": Bad(
        ["'amount' is text, since its numbers have a decimal comma", 'decimal = ","'],
        {"x": "log(amount)"},
        table={**huts(40, seed=50, missing=0), "amount": [f"{at},5" for at in range(40)]},
    ),
    "sum of two blocks": Bad(
        ["+ works on one column, and 'category(access)' is a block", "or * between them for their interaction"],
        {"x": "category(access) + polynomial(beds, 2)"},
    ),
    "function of a block": Bad(["log works on one column", "is a block"], {"x": "log(polynomial(beds, 2))"}),
    "syntax": Bad(
        ["not a valid expression: a bracket is opened that is never closed", "log(price\n       ^\nClose it"],
        {"x": "log(price"},
    ),
    "log of nothing positive": Bad(
        [
            "terms.x: 'log(price)' is not defined for these values in 2 rows",
            "Rows 2, 3.",
            "shift=..",
            'nonpositive="missing"',
        ],
        {"x": "log(price)"},
        kind=fa.DataError,
    ),
    "root of a negative": Bad(["'sqrt(price)'", "Row 3."], {"x": "sqrt(price)"}, kind=fa.DataError),
    "division by zero": Bad(["'1 / price' is infinite", "Row 2."], {"x": "1 / price"}, kind=fa.DataError),
    "reciprocal of zero": Bad(["Nothing can be divided by 0", "Row 2."], {"x": "reciprocal(price)"}, kind=fa.DataError),
    "infinite in the last of several terms": Bad(
        ["terms.c: '(access == 'road') * exp(", "is infinite or not a number in 1 row\nRow 6."],
        {"a": "beds", "b": "code", "c": "category(access) * exp(beds * 100) * exp(beds * 100)"},
        kind=fa.DataError,
    ),
    "a mark within the text": Bad(
        ["    beds + log(price) * 2\n           ^^^^^^^^^^\n", "Rows 2, 3."],
        {"x": "beds + log(price) * 2"},
        kind=fa.DataError,
    ),
    "zero by zero": Bad(["infinite or not a number", "Row 2."], {"x": "price / price"}, kind=fa.DataError),
    "overflow": Bad(["exp(beds * 500)", "5 rows", "Rows 2, 3, 4, 5, 6."], {"x": "exp(beds * 500)"}, kind=fa.DataError),
    "infinite source": Bad(
        ["'price' is infinite in 1 row", "Row 4.", "Infinite values count as wrong"],
        {"x": "price"},
        table={"price": [1.0, 2.0, 3.0, math.inf], "stays": [1.0, 2.0, 3.0, 4.0]},
        kind=fa.DataError,
    ),
    "reference not there": Bad(
        [
            "no row of the estimation sample has the reference category 'raod' of 'access'; did you mean 'road'?",
            "boat, road, trail",
        ],
        {"x": "category(access, reference='raod')"},
        kind=fa.DataError,
    ),
    "reference left out by keep": Bad(
        ["no row of the estimation sample has the reference category 'boat'"],
        {"x": "category(access, reference='boat')"},
        sections={"rows": {"keep": "access != 'boat'"}},
        kind=fa.DataError,
    ),
    "as many categories as rows": Bad(
        ["'guest' has 6 categories, as many as rows: is it an id or a date?", "pool"],
        {"x": "guest"},
        kind=fa.DataError,
    ),
    "one category only": Bad(
        ["has only the category 'road'", "nothing to compare"],
        {"x": "access"},
        sections={"rows": {"keep": "access == 'road'"}},
        kind=fa.DataError,
    ),
    "response among predictors": Bad(
        ["terms.x: 'stays' is among the predictors", "log(stays)", "Leave it out"], {"x": "log(stays)"}
    ),
    "variable made from the response": Bad(
        ["'rate', made from the response 'stays', is among the predictors"],
        {"x": "log(rate)"},
        sections={"derived": {"rate": "stays / beds"}},
    ),
    "id among predictors": Bad(
        ["'code' is an id, and cannot be a predictor"], {"x": "code"}, sections={"variables": {"code": {"kind": "id"}}}
    ),
    "id through a derived variable": Bad(
        ["'code' is an id"],
        {"x": "half"},
        sections={"variables": {"code": {"kind": "id"}}, "derived": {"half": "code / 2"}},
    ),
    "two columns of one name": Bad(
        ["the terms 'way' and 'way_road' both have a column called 'way_road'", "another key"],
        {"way": "access", "way_road": "beds"},
    ),
    "a term called as the intercept": Bad(["both have a column called 'intercept'"], {"Intercept": "beds"}),
    "response as a term": Bad(
        ["terms.response: 'response' is not a term", "before the first [section]"], {"response": "stays"}
    ),
    "intercept as a term": Bad(["terms.intercept: 'intercept' is not a term"], {"intercept": "1"}),
    "unknown plan key": Bad(
        ["rows.kepp: [rows] does not have this key; did you mean 'keep'?"], sections={"rows": {"kepp": "beds > 1"}}
    ),
    "unknown data key": Bad(["data.delimeter", "did you mean 'delimiter'?"], sections={"data": {"delimeter": ";"}}),
    "wrong choice": Bad(
        ["rows.missing: 'skip' is not one of the choices", "'drop'"], sections={"rows": {"missing": "skip"}}
    ),
    "wrong kind of kind": Bad(
        ["'nominal' is not one of the choices"], sections={"variables": {"access": {"kind": "nominal"}}}
    ),
    "declared variable not there": Bad(
        ["variables.acess: variable 'acess' not found in the table; did you mean 'access'?"],
        sections={"variables": {"acess": {"kind": "category"}}},
        kind=fa.DataError,
    ),
    "ordered without order": Bad(
        ["needs its order"], sections={"variables": {"comfort": {"kind": "ordered"}}}, kind=fa.DataError
    ),
    "order that leaves a value out": Bad(
        ["'comfort' has values outside its order: fair", "Rows 3, 6."],
        sections={"variables": {"comfort": {"kind": "ordered", "order": ["poor", "good"]}}},
        kind=fa.DataError,
    ),
    "labels that leave a value out": Bad(
        ["'code' has values without a label: 30", "Row 5."],
        sections={"variables": {"code": {"labels": {"10": "ten", "20": "twenty"}}}},
        kind=fa.DataError,
    ),
    "text declared a number": Bad(
        ["'amount' holds 1 value ('n.a.') that cannot be read as a number", "Row 4."],
        sections={"variables": {"amount": {"kind": "number"}}},
        kind=fa.DataError,
    ),
    "text declared a truth value": Bad(
        ["that cannot be read as a truth", "Rows 1, 2, 3"],
        sections={"variables": {"access": {"kind": "truth"}}},
        kind=fa.DataError,
    ),
    "text declared a time": Bad(
        ["that cannot be read as a time"], sections={"data": {"time": "access"}}, kind=fa.DataError
    ),
    "unknown time variable": Bad(
        ["data.time: variable 'moth' not found; did you mean 'month'?"], sections={"data": {"time": "moth"}}
    ),
    "time as a term": Bad(
        ["'month' is a time, which cannot be a column by itself"], {"x": "month"}, sections={"data": {"time": "month"}}
    ),
    "time as a number": Bad(
        ["log needs a number, and 'month' is a time"], {"x": "log(month)"}, sections={"data": {"time": "month"}}
    ),
    "no period": Bad(
        ["'soon' is not a valid period", "2023-04"], {"x": "month < 'soon'"}, sections={"data": {"time": "month"}}
    ),
    "unknown category": Bad(
        ["no row has the category 'raod'; did you mean 'road'?", "The categories are"], {"x": "access == 'raod'"}
    ),
    "polynomial of too few values": Bad(
        ["too few distinct values for a polynomial of degree 3", "degree 2 at most"],
        {"x": "polynomial(code, 3, orthogonal=True)"},
        kind=fa.DataError,
    ),
    "missing in an order that has no place for it": Bad(
        ["missing values are not a category here", 'missing="category"'],
        {"x": "category(access, order=[missing, 'road', 'trail', 'cable car'])"},
    ),
    "derived circle": Bad(
        ["on each other in a circle: a → b → a"], {"x": "a"}, sections={"derived": {"a": "b + 1", "b": "a + 1"}}
    ),
    "derived over a variable": Bad(
        ["derived.beds: 'beds' is a variable of the table already"], sections={"derived": {"beds": "price"}}
    ),
    "derived of several columns": Bad(
        ["has several columns"], {"x": "many"}, sections={"derived": {"many": "polynomial(beds, 2)"}}
    ),
    "unused derived with a mistake": Bad(
        ["derived.d: variable 'bads' not found"], sections={"derived": {"d": "bads + 1"}}
    ),
    "learned keep": Bad(
        ["rows.keep: keep holds 'mean(beds)', which is learned"], sections={"rows": {"keep": "beds > mean(beds)"}}
    ),
    "learned keep through a derived one": Bad(
        ["which is learned"], sections={"rows": {"learn": "high"}, "derived": {"high": "beds > median(beds)"}}
    ),
    "keep that is no condition": Bad(["keep needs a condition"], sections={"rows": {"keep": "access"}}),
    "no row kept": Bad(
        ["no row is left of 6: 6 where keep is false", "Loosen"],
        sections={"rows": {"keep": "beds > 10"}},
        kind=fa.DataError,
    ),
    "no row to learn from": Bad(
        ["the estimation sample has no rows"],
        {"x": "standardize(beds)"},
        sections={"rows": {"learn": "beds > 10"}},
        kind=fa.DataError,
    ),
    "missing refused": Bad(
        ["2 rows with missing values, and [rows] missing is 'fail'", "Rows 2, 4.", "terms.x"],
        {"x": "gaps"},
        sections={"rows": {"missing": "fail"}},
        kind=fa.DataError,
    ),
    "no row kept for two reasons": Bad(
        ["no row is left of 6: 4 where keep is false; 2 where a value is missing in terms.x"],
        {"x": "gaps"},
        sections={"rows": {"keep": "beds == 2 or beds == 4"}},
        kind=fa.DataError,
    ),
    "a series without its step": Bad(
        ["[series.s] needs 'every'"], sections={"series": {"s": {"time": "m", "take": {"r": {"how": "mean"}}}}}
    ),
    "no terms": Bad(["the plan has no terms"], {}),
    "empty table": Bad(["has no rows"], table={"stays": [], "beds": []}, kind=fa.DataError),
    "columns of unequal length": Bad(
        ["of unequal length: stays 2, beds 3"], table={"stays": [1, 2], "beds": [1, 2, 3]}, kind=fa.DataError
    ),
    "digits lost": Bad(
        ["'big' holds whole numbers beyond 2**53", 'kind = "category"'],
        {"x": "big"},
        table={"big": np.array([2**53 + 1, 2**60]), "stays": [1.0, 2.0]},
        kind=fa.DataError,
    ),
    "response that is a time": Bad(
        ["the response is a number"], response="month", sections={"data": {"time": "month"}}
    ),
    "a derived logarithm of zero": Bad(
        ["derived.size: 'log(price)' is not defined for these values", "Rows 2, 3."],
        {"x": "size"},
        sections={"derived": {"size": "log(price)"}},
        kind=fa.DataError,
    ),
    "a truth value as a time": Bad(
        ["A time is a date, or a text"],
        sections={"variables": {"open": {"kind": "time"}}},
        table={"stays": [1.0, 2.0, 3.0], "beds": [1, 2, 3], "open": [True, False, True]},
        kind=fa.DataError,
    ),
    "response that is several": Bad(["the response is a number"], response="[stays, price]"),
}


# terms that are refused, and what is said of each, where nothing else is wrong; the month is a time
REFUSED = {
    "bins(price, edges=[1], count=3)": "bins are made in one way",
    "category(access, order=['road', 'trail', 'boat'], reference='ferry')": "no row of the estimation sample",
    "category(access, order=['road', 'trail'])": "has categories outside its order: 'boat'",
    "category(access, order=[])": "the order is empty",
    "category(access, order=['road', 'road', 'trail', 'boat'])": "a category is in the order twice",
    "category(access, coding='score')": "the categories of 'access' have no order to count by",
    "category(beds, missing='category', pooled=[1, 2])": "pooled needs order as well, with the pooled category last",
    "category(access, order=['road', 'boat', missing], missing='category', pooled=['trail'])": "pooled needs order",
    "category(access, order=['road', 'trail', 'rest'], pooled=['boat', 'road'])": "'road' is both in the order",
    "category(month)": "'period_of(month, 'month')' has 6 categories, as many as rows",
    "period_of(beds, 'year')": "period_of works on a time, and 'beds' is a number",
    "impute(gaps, 'mean', by=[access], fills={'road': missing}, otherwise=2)": "the fill of the group 'road' is",
    "impute(gaps, 'mean', by=[access], fills={'road': 'x'}, otherwise=2)": "a text cannot be imputed",
    "impute(gaps, 'mean', by=[access], fills={'road': 2})": "fills need a value for all other groups",
    "lookup(access, {'road': 1, 'trail': 'x'}, 0)": "the table mixes texts and numbers",
    "price in [beds]": "a list after 'in' holds numbers and texts only",
    "access > comfort": "'>' needs an order, and these categories have none in common",
    "winsorize(price, at=[1])": "at holds the smallest and the largest value kept",
    "center(none)": "no row is left of 6: 6 where a value is missing in terms.x",
    "polynomial(none, 2, orthogonal=True)": "no row is left of 6: 6 where a value is missing in terms.x",
    "polynomial(beds, 2, orthogonal=True, center=True)": "orthogonal columns are centred already",
    "polynomial(beds, 2, orthogonal=True, basis=[1])": "basis holds two numbers for each degree",
    "standardize(price, at=1, scale=0)": "scale is 0",
    "season('month')": "a season needs a time",
    "price == missing": "missing cannot be compared with anything",
    "[missing, price] < 3": "missing cannot be compared with anything",
    "lookup([], {}, 0)": "the list is empty",
    "mean_of([[]])": "the list is empty",
    "[price, []]": "the list is empty",
    "bins(price, count=2) == 'high'": "no row has the category 'high'",
    "bins(price, count=2) > 'high'": "no row has the category 'high'",
    "trend(of=[beds])": "of must be the plan's time, 'month'",
    "access == '\\ud800'": "the text holds a character that is not valid text",
    "variable(1)": "variable(..) takes one name in quotes",
    "variable('price', 'beds')": "variable(..) takes one name in quotes",
    " + ".join(["price"] * 3000): "the expression is too large or too deeply nested",
    "part(price, 'year')": "part works on a time, and 'price' is a number",
    "bins(price, edges=[[5, 3]])": "the bin from 5 to 3 is empty",
    "bins(price, edges=[2], labels=['a', 'a'])": "two bins have one label",
    "bins(price, edges=[2], labels=[1, 2])": "the labels of bins are texts",
    "reverse(beds, 5, 1)": "the scale runs from 5 to 1",
    "reverse(beds, 5, 5)": "the scale runs from 5 to 5",
    "mean(none, by=[access])": "'none' is missing in every row",
    "category(access, reference=-4)": "no row of the estimation sample has the reference category -4",
    "category(access, reference=3)": "no row of the estimation sample has the reference category 3",
    "spread_of(beds)": "spread_of needs 2 items",
    "regroup(code, {'a': ['5..3']})": "the range '5..3' is empty",
    "regroup(code, {'a': ['..20'], 'b': ['20..']})": "the ranges '..20' and '20..' overlap",
    "bins(price, width=0)": "width of bins must be a number above 0",
    "bins(price, width=2, quantiles=3)": "bins are made in one way",
    "bins(price, edges=[2], labels=['a', 'b', 'c'])": "3 labels for 2 bins",
    "impute(gaps)": "impute needs a method or a value",
    "impute(gaps, 'mean', by=[access], value=2)": "value is one fill for all groups",
    "impute(gaps, 'mean', otherwise=2)": "otherwise is valid only with groups",
    "trend(origin=True)": "origin of trend must be a period in quotes, or the number of a row",
    "matching(3)": "pattern of matching must be a text",
    "impute(gaps, value='none')": "a text cannot be imputed",
    "impute(none, 'mean')": "terms.x: 'none' is missing in every row of the estimation sample",
    "impute(gaps, 'median', limit=2)": "limit is valid only with",
    "mean_of(price, beds, at_least=3)": "mean_of has 2 items, and 3 values are asked for",
    "mean_of(price, access)": "mean_of needs a number, and 'access' is a category",
    "regroup(access, {'a': ['road'], 'b': ['road']})": "the category 'road' is named twice",
    "regroup(access, {'a': ['raod']})": "has no category 'raod'; did you mean 'road'?",
    "winsorize(price, shares=[0.9, 0.1])": "shares are two numbers from 0 to 1",
    "log(price, shfit=1)": "log has no option 'shfit'; did you mean 'shift'?",
    "polynomial(price)": "polynomial needs its argument 'degree'",
    "sqrt(price, 2)": "sqrt takes at most 1",
    "log(price, x=beds)": "is given 'x' twice",
    "category(access) > 1": "a comparison works on one column",
    "access = 'road'": "A comparison is written with ==",
    "category(access) * exp(beds * 100) * exp(beds * 100)": "is infinite or not a number",
    "category(access, reference='ferry', order=['ferry', 'boat', 'road', 'trail'])": "no row of the estimation",
    "category(access, limit=2)": "more than limit=2",
    "beds if stays > 6 else 0": "among the predictors",
    "mean(beds, by=[stays])": "among the predictors",
    "[beds * 2, beds / 2 * 4, beds * 2]": "two columns of the term would be called",
    "access in ['road', 'car']": "no row has the category 'car'",
    "access < 'road'": "'<' needs an order",
    "beds == 'many'": "cannot be compared",
    "access == beds": "cannot be compared with",
    "beds if beds > 2 else 'few'": "the branches are a number and a category",
    "missing": "a term cannot be missing in every row",
    "[]": "the list is empty",
    "matching('zz*')": "matches no variable",
    "standardize(beds - beds)": "is constant",
    "beds - mean(none)": "'none' is missing in every row of the estimation sample",
    "clip(beds)": "clip needs a bound",
    "clip(beds, 5, 2)": "low (5) is above high (2)",
    "category(access, 'road', 'helmert')": "the coding 'helmert' has no reference",
    "score(access)": "have no order to count by",
    "category(access, coding='polynomial')": "have no order to count by",
    "category(access, unseen='pool')": "needs a pooled category",
    "regroup(access, {'a': ['rod']})": "has no category 'rod'; did you mean 'road'?",
    "lookup(access, {'road': 1, 'boat': 'x'})": "mixes texts and numbers",
    "lookup(access, {('a', 'b'): 1})": "has 2 parts for 1 variables",
    "part(variable('q 1'), 'year')": "part works on a time",
    "period_of(variable('q 1'), 'year')": "period_of works on a time",
    "none": "terms.x: no row is left of 6: 6 where a value is missing in terms.x",
    "every_number(but=[3])": "but=[..] lists variables",
    "matching('z_*')": "'matching('z_*')' matches no variable",
}


def pieces(remedy: str) -> list[str]:
    """Return the calls and the lines of sections in a remedy that are complete, signatures left out."""
    found = re.findall(r"\[\w+\] (?:\w+|\"[^\"]*\") = (?:\{[^}]*\}|\"[^\"]*\")", remedy)
    for call in re.finditer(r"\b([a-z_]+)\(", remedy):
        depth, at = 1, call.end()
        while at < len(remedy) and depth:
            depth += (remedy[at] in "([{") - (remedy[at] in ")]}")
            at += 1
        found.append(remedy[call.start() : at])
    signatures = re.compile(r"\((?:x|pattern|degree|items)\b|\.\.")
    return [piece for piece in found if not signatures.search(piece)]


def with_piece(piece: str, error: fa.FacturumError, spec: dict[str, Any]) -> dict[str, Any] | None:
    """Return a plan with a piece of code where an error points; None where it points at no text of the plan."""
    if piece.startswith("["):
        content = tomllib.loads(piece.replace("] ", "]\n", 1))
        return {key: {**spec.get(key, {}), **content.get(key, {})} for key in {*spec, *content}}
    section, _, key = str(getattr(error, "place", "")).partition(".")
    text, span = spec.get(section, {}).get(key), getattr(error, "span", None)
    if not isinstance(text, str) or span is None:
        return None
    return spec | {section: {**spec[section], key: text[: span[0]] + piece + text[span[1] :]}}


class Messages(unittest.TestCase):
    def test_each_expression_refused_is_told_with_its_reason(self) -> None:
        for text, said in REFUSED.items():
            data = {"every": "row"} if "season" in text else {"time": "month", "every": "month"}
            with self.subTest(text[:80]), self.assertRaises(fa.FacturumError) as caught:
                fa.Plan("stays", {"x": text}, data=data).build(TABLE)
            self.assertIn(said, str(caught.exception))
            stands_where_it_says(caught.exception, "stays", {"x": text}, {})

    def test_each_mistake_is_told_with_its_place_and_its_remedy(self) -> None:
        for name, case in CASES.items():
            with self.subTest(name):
                with self.assertRaises(case.kind) as caught:
                    fa.Plan(case.response, case.terms, **case.sections).build(case.table or TABLE)
                told = str(caught.exception)
                for said in case.said:
                    self.assertIn(said, told)
                self.assertIsInstance(caught.exception, fa.FacturumError)
                stands_where_it_says(caught.exception, case.response, case.terms, case.sections)

    def test_an_argument_of_another_type_is_told_with_the_types_that_may_be_given(self) -> None:
        table = {"y": [1.0, 2.0, 4.0, 7.0], "x": [1.0, 2.0, 3.0, 5.0]}
        plan = fa.Plan("y", {"x": "x"})
        design = plan.build(table)
        for call, said in (
            (lambda: plan.build(table, threads="two"), "build cannot take 'two' as 'threads'\nGive int | None."),
            (lambda: plan.build(table, threads="x" * 80), f"build cannot take '{'x' * 59} .. as 'threads'\nGive int"),
            (lambda: design.trace(table, "one"), "trace cannot take 'one' as 'row'\nGive int."),
            (lambda: design.trace(table, [1]), "trace cannot take a list as 'row'\nGive int."),
            (lambda: design.save(7), "save cannot take 7 as 'folder'\nGive str | pathlib.Path."),
        ):
            with self.subTest(said), self.assertRaises(fa.DataError) as caught:
                call()
            self.assertTrue(str(caught.exception).startswith(said), str(caught.exception))

    def test_code_in_a_remedy_gets_past_its_error(self) -> None:
        """What a remedy shows is put where the error points; lines of a section are added to the plan."""
        refused: list[tuple[str, dict[str, str], str | None, dict[str, Any], dict[str, Any]]] = [
            (text, {"x": text}, "stays", {"data": {"every": "row"} if "season" in text else CLOCK}, TABLE)
            for text in REFUSED
        ]
        refused += [(name, c.terms, c.response, c.sections, c.table or TABLE) for name, c in CASES.items()]
        tried = 0
        for name, terms, response, sections, data in refused:
            try:
                fa.Plan(response, terms, **sections).build(data)
            except fa.FacturumError as error:
                said = error
            for piece in pieces(said.remedy or ""):
                spec = with_piece(piece, said, {"terms": dict(terms), **sections})
                if spec is None:
                    continue
                tried += 1
                with self.subTest(name[:80], piece=piece):
                    try:
                        fa.Plan(response, **spec).build(data)
                    except fa.FacturumError as again:
                        self.assertNotEqual(str(again).splitlines()[0], str(said).splitlines()[0])
                        self.assertNotIn("not found", str(again))
        self.assertGreater(tried, 22)

    def test_a_mistake_is_told_the_same_on_many_leaves_and_threads(self) -> None:
        price = np.ones(200_000)
        price[[5, 70_000, 150_000, 199_999]] = -1.0
        for threads in (1, 4):
            with self.assertRaises(fa.DataError) as caught:
                fa.Plan(None, {"x": "log(price)"}).build({"price": price}, threads=threads)
            self.assertEqual(caught.exception.rows, (6, 70_001, 150_001, 200_000))
            self.assertEqual(caught.exception.span, (0, len("log(price)")))
            self.assertIn("in 4 rows", str(caught.exception))

    def test_what_grows_beyond_the_doubles_is_found_among_the_columns(self) -> None:
        table = {name: [1.0, 2.0, 3.0, 5.0] for name in "abcd"} | {"w": list("xyxy")}
        table["d"] = [1.0, 1e200, 2.0, -1e200]
        for terms, place in (
            ({"k": "[a, b]", "l": "[c, d * d]"}, "terms.l"),
            ({"k": "[a, b]", "l": "w * [c, d * d]", "m": "a"}, "terms.l"),
            ({"k": "polynomial(d, 2)", "l": "a"}, "terms.k"),
            ({"k": "[a, b]", "l": "[c, d] * d"}, "terms.l"),
            ({"k": "[a, b]", "l": "w * [c, d] * d", "m": "a"}, "terms.l"),
        ):
            with self.assertRaisesRegex(fa.DataError, "is infinite|is beyond|too large|not a number") as caught:
                fa.Plan(None, terms).build(table)
            self.assertEqual((caught.exception.place, caught.exception.rows), (place, (2, 4)))

    def test_rows_that_are_left_out_anyway_do_not_fail(self) -> None:
        made = fa.Plan("stays", {"x": "log(price)"}, rows={"keep": "price > 0"}).build(TABLE)
        self.assertEqual(made.rows.kept.tolist(), [1, 4, 5, 6])

    def test_two_ways_to_allow_a_logarithm_of_zero_and_less(self) -> None:
        shifted = fa.Plan("stays", {"x": "log(price, shift=3)"}).build(TABLE)
        self.assertEqual(shifted.X[1, 1], math.log(3))
        left = fa.Plan("stays", {"x": "log(price, nonpositive='missing')"}).build(TABLE)
        self.assertEqual(left.rows.dropped.tolist(), [2, 3])


class Options(Folder):
    """An option in a remedy is in the words of whoever made the call, and gets past the error."""

    def setUp(self) -> None:
        super().setUp()
        months = [f"2020-{at % 12 + 1:02d}" for at in range(36)]
        table = {"month": months, "hut": [*"a" * 12, *"b" * 12, *"c" * 12], "access": ["road", "trail", "boat"] * 12}
        dice = np.random.default_rng(3)
        table |= {"price": dice.uniform(5, 90, 36).round(2).tolist(), "stays": dice.poisson(30, 36).tolist()}
        self.table, self.places = table, {"FILE": "huts.csv", "VARIABLE": "hut", "PLAN": "cut.toml"}
        energy = {"month": months[:12], "tariff": dice.uniform(1, 2, 12).round(3).tolist()}
        for name, columns in (("huts.csv", table), ("energy.csv", energy)):
            lines = [",".join(columns), *(",".join(map(str, row)) for row in zip(*columns.values(), strict=True))]
            (self.folder / name).write_text("\n".join(lines) + "\n")
        for name, text in (
            ("plan.toml", 'response = "stays"\n[terms]\nprice = "price"\naccess = "access"\n'),
            ("curve.toml", 'response = "stays"\n[terms]\na = "price + 500"\nb = "(price + 500) ** 2"\n'),
            ("lag.toml", 'response = "stays"\n[data]\ntime = "month"\nevery = "month"\npanel = ["hut"]\n'
                         '[terms]\nprice = "price"\n'),
            ("single.toml", 'response = "stays"\n[data]\ntime = "month"\nevery = "month"\n[terms]\nprice = "price"\n'),
            ("joined.toml", 'response = "stays"\n[data]\ntime = "month"\nevery = "month"\npanel = ["hut"]\n'
                            '[terms]\ntariff = "energy_tariff"\n[series.energy]\ntime = "month"\nevery = "month"\n'
                            'take = { tariff = { how = "mean" } }\n'),
        ):  # fmt: skip
            (self.folder / name).write_text(text)
        for plan in ("plan", "lag"):
            done = command("build", f"{plan}.toml", "huts.csv", "--out", f"{plan}-out", cwd=self.folder)
            self.assertEqual(done.returncode, 0, done.stderr)

    def test_on_the_command_line_it_is_typed_as_it_stands(self) -> None:
        cases = (
            ("build plan.toml huts.csv --out plan-out", ""),
            ("build joined.toml huts.csv --out new", "energy.csv"),
            ("build curve.toml huts.csv --out new --strict --no-checks", ""),
            ("amend curve.toml huts.csv --take 1", ""),
            ("profile huts.csv access --percent row", "hut"),
            ("trial plan-out --resample 5", "huts.csv"),
            ("trial plan-out --leave-one-out --folds 3 --data huts.csv", ""),
            ("profile huts.csv --delimiter ,,", ""),
            ("trial plan-out --unit a", "F.png"),
            ("trial plan-out --folds 3", "huts.csv"),
            ("trial plan-out --errors clustered --data huts.csv", "hut"),
            ("trial plan-out --errors clustered --by hut", "huts.csv"),
            ("trial plan-out --by hut --data huts.csv", ""),
        )
        tried = 0
        for line, filled in cases:
            with self.subTest(line):
                before = command(*line.split(), cwd=self.folder)
                self.assertEqual(before.returncode, 2, before.stderr)
                self.assertNotRegex(before.stderr, r"\w=(?:table|True|\{)")
                typed = re.search(r"--[a-z-]+(?: \S+?(?=[.,;]?(?:\s|$)))?", before.stderr.partition("\n")[2])
                if typed is None:
                    continue
                tried += 1
                name, *value = re.sub(r"FILE|VARIABLE|PLAN", filled, typed[0]).split()
                words = line.split()
                if name in words:
                    del words[words.index(name) : words.index(name) + 2]
                after = command(*words, name, *(each.strip("'") for each in value), cwd=self.folder)
                self.assertNotIn(before.stderr.splitlines()[0], after.stderr)
                self.assertNotIn("No such option", after.stderr)
        self.assertGreater(tried, 10)

    def test_in_python_it_is_given_as_it_stands(self) -> None:
        series = {"energy": self.folder / "energy.csv"}
        design = fa.Plan("stays", {"price": "price"}).build(self.table)
        stored = fa.open_design(self.folder / "plan-out")
        calls: list[tuple[Any, dict[str, Any], dict[str, Any]]] = [
            (lambda **given: design.save(self.folder / "plan-out", **given), {}, {"replace": True}),
            (
                lambda **given: fa.Plan.load(self.folder / "joined.toml").build(self.table, **given),
                {},
                {"series": series},
            ),
            (design.trial, {"errors": "clustered"}, {"by": "hut"}),
            (design.trial, {"by": "hut"}, {"errors": "clustered"}),
            (stored.trial, {"errors": "clustered", "by": "hut"}, {"table": self.table}),
            (lambda **given: design.effects("price", by=1, **given), {"errors": "clustered"}, {"clusters": "hut"}),
            (
                lambda **given: fa.resample(
                    fa.Plan.load(self.folder / "single.toml"), {k: v[:12] for k, v in self.table.items()}, **given
                ),
                {},
                {},
            ),
        ]
        for call, asked, added in calls:
            with self.subTest(asked, added=added):
                with self.assertRaises(fa.FacturumError) as caught:
                    call(**asked)
                self.assertNotIn("--", str(caught.exception))
                for name in added:
                    self.assertIn(f"{name}=", caught.exception.remedy or "")
                if added:
                    call(**asked, **added)


class Sizes(unittest.TestCase):
    def test_derived_variables_that_build_on_one_another_stay_quick(self) -> None:
        chain = {f"d{at}": f"d{at - 1} + d{at - 2}" if at > 1 else "beds" for at in range(60)}
        made = fa.Plan("stays", {"x": "d59 / 1e9"}, derived=chain).build(TABLE)
        self.assertEqual(made.plan.build({"beds": TABLE["beds"]}).X.tobytes(), made.X.tobytes())
        self.assertTrue(made.verify(TABLE).ok)
        # a walk of every path would take years
        before, current = 1, 1
        for _ in range(58):
            before, current = current, before + current
        self.assertEqual(made.X[0, 1], current / 1e9)

    def test_derived_variables_nested_too_deeply_are_refused(self) -> None:
        chain = {f"d{at}": f"d{at - 1} + 1" if at else "beds" for at in range(3000)}
        with self.assertRaisesRegex(fa.PlanError, "nested 201 deep, through derived variables too"):
            fa.Plan("stays", {"x": "d2999"}, derived=chain).build(TABLE)
        within = {name: text for name, text in chain.items() if int(name[1:]) < 100}
        made = fa.Plan("stays", {"x": "d99"}, derived=within).build(TABLE)  # 200 levels
        self.assertEqual(made.X[:, 1].tolist(), [beds + 99 for beds in TABLE["beds"]])
        with self.assertRaisesRegex(fa.PlanError, "nested 201 deep"):
            fa.Plan("stays", {"x": "d99 + 1"}, derived=within).build(TABLE)

    def test_a_matrix_that_would_not_fit_is_refused_before_memory_is_taken(self) -> None:
        table = {"a": [f"x{at % 900}" for at in range(200_000)], "b": [f"y{at % 901}" for at in range(200_000)]}
        with self.assertRaisesRegex(fa.DataError, "809,100 columns(.|\\n)*Pool or regroup"):
            fa.Plan(None, {"ab": "a * b"}).build(table)
        table = {"a": [f"x{at % 150}" for at in range(21_000)], "b": [f"y{at % 140}" for at in range(21_000)]}
        with self.assertRaisesRegex(fa.DataError, "the interaction would have 20,711 columns, and 20,000 are the most"):
            fa.Plan(None, {"ab": "a * b"}).build(table)

    def test_a_matrix_is_refused_from_the_first_byte_beyond_the_memory(self) -> None:
        plan = fa.Plan(None, {"x": "x"})
        with unittest.mock.patch("facturum.engine.passes.sinks._memory", return_value=8 * 2 * 50):
            self.assertEqual(plan.build({"x": np.arange(50.0)}).X.shape, (50, 2))
            with self.assertRaisesRegex(fa.DataError, "the matrix would have 51 rows and 2 columns"):
                plan.build({"x": np.arange(51.0)})

    def test_a_zero_that_is_learned_has_no_sign(self) -> None:
        made = fa.Plan(None, {"x": "x - smallest(x)", "z": "x + median(x)"}).resolve({"x": [0.0, -0.0, -0.0, 3.0]})
        self.assertNotIn("-0", str(made))


class NewRows(unittest.TestCase):
    def setUp(self) -> None:
        self.table = huts(200, seed=21, missing=0)

    def resolved(self, text: str) -> fa.Plan:
        return fa.Plan("stays", {"x": text}).resolve(self.table)

    def new(self, *ways: str | None) -> dict[str, Any]:
        return {"access": list(ways), "price": [1.0] * len(ways)}

    def test_a_category_seen_only_in_new_rows(self) -> None:
        with self.assertRaises(fa.DataError) as caught:
            self.resolved("access").build(self.new("road", "ferry", "boat", "sledge"))
        told = str(caught.exception)
        for said in (
            "terms.x",
            "is not in the plan: 'ferry', 'sledge'",
            "2 rows",
            "Rows 2, 4.",
            "unseen",
        ):
            self.assertIn(said, told)

    def test_an_unseen_category_may_be_missing_or_pooled(self) -> None:
        made = self.resolved("category(access, unseen='missing')").build(self.new("road", "ferry", "boat"))
        self.assertEqual(made.rows.dropped.tolist(), [2])
        made = self.resolved("category(access, pool=0.1, unseen='pool')").build(self.new("road", "ferry", "boat"))
        self.assertEqual(made.names, ["intercept", "x_road", "x_trail", "x_other"])
        np.testing.assert_array_equal(made.X[:, 1:], [[1, 0, 0], [0, 0, 1], [0, 0, 1]])

    def test_missing_may_be_a_category(self) -> None:
        table = huts(200, seed=22, missing=0.2)
        resolved = fa.Plan("stays", {"x": "category(access, missing='category', reference='road')"}).resolve(table)
        self.assertIn("missing]", resolved.spec.terms["x"])
        made = resolved.build(self.new(None, "road", "trail"))
        self.assertEqual(made.names[-2:], ["x_trail", "x_missing"])
        np.testing.assert_array_equal(made.X[:, -2:], [[0, 1], [0, 0], [1, 0]])
        with self.assertRaisesRegex(fa.DataError, "is not in the plan: 'zip', 'aerial'"):
            resolved.build(self.new("zip", "road", "aerial"))

    def test_new_rows_need_what_keep_reads_and_not_what_learn_reads(self) -> None:
        table = {"x": [1.0, 2.0, 4.0], "y": [1.0, 2.0, 3.0], "use": [True, True, False]}
        learned, kept = (fa.Plan("y", "center(x)", rows={key: "use"}).resolve(table) for key in ("learn", "keep"))
        new = {"x": [5.0, 6.0]}
        self.assertEqual(learned.build(new).X[:, 1].tolist(), [3.5, 4.5])
        made = learned.build(table)
        self.assertEqual((made.rows.learning.tolist(), made.columns.rows.learned), ([True, True, False], 0))
        with self.assertRaisesRegex(fa.FacturumError, "variable 'use' not found"):
            kept.build(new)

    def test_a_resolved_plan_asks_only_for_what_it_reads(self) -> None:
        resolved = self.resolved("category(access) * (price > 5 and access != 'boat')")
        one = resolved.build(self.new("road"))
        self.assertIsNone(one.y)
        with self.assertRaisesRegex(fa.PlanError, "variable 'price' not found"):
            resolved.build({"access": ["road"]})

    def test_a_resolved_plan_edited_by_hand_is_noticed(self) -> None:
        content = self.resolved("access").spec.model_dump(exclude_none=True)
        content["columns"]["x"] = ["x_road"]
        with self.assertRaisesRegex(fa.DataError, "names 1 columns of this term, and it has 3"):
            fa.Plan._of(spec_from(content)).build(self.new("road"))


class PlanFiles(unittest.TestCase):
    @given(st.dictionaries(st.text(alphabet="abz_ é-", min_size=1, max_size=6), TERMS, min_size=1, max_size=4))
    @settings(max_examples=60)
    def test_a_plan_survives_its_file(self, terms: dict[str, str]) -> None:
        plan = fa.Plan(
            "log(stays)",
            terms,
            intercept=False,
            derived={"a'\"b": "price > 1"},
            variables={"q 1": {"labels": {"0": 'n"o', "1": "y\\es\n"}}},
            rows={"keep": "access == 'road'", "missing": "keep"},
            data={"missing_values": ["", "-", "n/a"], "carry": ["hut"]},
        )
        self.assertEqual(fa.Plan.from_text(str(plan)), plan)

    def test_wrong_files(self) -> None:
        for text, said in (
            ("response = stays", "the plan is not valid TOML"),
            ("response = 'a'\nresponse = 'b'", "not valid TOML"),
            ("facturum = 2", "reads format 1"),
            ("[terms]\nx = 3", "terms.x: 3 is not valid here"),
            ("[term]\nx = 'a'", "did you mean 'terms'?"),
            ("intercept = 'yes'\n[rows]\nkeep = 3", "intercept: 'yes' is not valid here"),
            ("[terms]\nresponse = 'log(stays)'", "before the first [section]"),
        ):
            with self.subTest(text), self.assertRaises(fa.PlanError) as caught:
                parse_plan(text)
            self.assertIn(said, str(caught.exception))
        with self.assertRaisesRegex(fa.PlanError, "cannot be read"):
            fa.Plan.load("/dev/null/plan.toml")

    def test_sections_in_python_of_a_wrong_type(self) -> None:
        sections: dict[str, Any] = {"rows": 5, "data": "x", "derived": ["x"], "stack": 5, "series": {"e": 1}}
        for name, section in {**sections, "variables": {"x": "number"}}.items():
            with self.subTest(name), self.assertRaisesRegex(fa.PlanError, f"(?s){name}.* is not valid here.*a dict"):
                fa.Plan("y", "x", **{name: section})
        with self.assertRaisesRegex(fa.PlanError, r"data.panel: 'hut' is not valid here\nWrite a list"):
            fa.Plan("y", "x", data={"panel": "hut"})
        self.assertEqual(repr(fa.Plan("log(y)", "log(x)")), "<plan of log(y) with 1 term>")
        self.assertEqual(fa.Plan("y", "log(x)"), fa.Plan("y", {"log_x": "log(x)"}))

    def test_the_text_of_a_plan_has_its_sections_in_the_order_of_the_format(self) -> None:
        text = plan_text(fa.Plan("y", {"a": "b"}, rows={"keep": "c"}, derived={"d": "e"}, data={"time": "t"}).spec)
        places = [
            text.index(word)
            for word in ("facturum", "response", "intercept", "[data]", "[derived]", "[rows]", "[terms]")
        ]
        self.assertEqual(places, sorted(places))
