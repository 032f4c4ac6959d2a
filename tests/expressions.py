"""Random expressions of the language, as texts, for properties."""

from __future__ import annotations

from hypothesis import strategies as st

NUMBERS = ("price", "beds", "change", "stays", "floor")
CATEGORIES = {
    "access": ("trail", "road", "cable car", "boat"),
    "valley": ("Upper", "Lower", "Far"),
    "comfort": ("poor", "fair", "good"),
}
CONSTANTS = st.one_of(st.integers(0, 60).map(str), st.floats(0.1, 50).map(lambda v: repr(round(v, 3))))


def _numbers(deeper: st.SearchStrategy[str], conditions: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    two = st.tuples(deeper, st.sampled_from(["+", "-", "*"]), deeper)
    return st.one_of(
        two.map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
        st.tuples(deeper, st.integers(1, 3)).map(lambda t: f"({t[0]}) ** {t[1]}"),
        deeper.map(lambda x: f"({x}) / 7"),
        deeper.map(lambda x: f"-({x})"),
        st.tuples(st.sampled_from(["abs", "asinh", "sin", "cos", "square"]), deeper).map(lambda t: f"{t[0]}({t[1]})"),
        deeper.map(lambda x: f"log(abs({x}), shift=1)"),
        deeper.map(lambda x: f"log({x}, nonpositive='missing')"),
        deeper.map(lambda x: f"sqrt(abs({x}))"),
        deeper.map(lambda x: f"exp(clip({x}, low=-20, high=20))"),
        deeper.map(lambda x: f"clip({x}, low=-3, high=40)"),
        deeper.map(lambda x: f"center({x}, at=2.5)"),
        deeper.map(lambda x: f"standardize({x}, at=1.5, scale=4)"),
        st.tuples(deeper, conditions, deeper).map(lambda t: f"({t[0]} if {t[1]} else {t[2]})"),
        st.tuples(conditions, deeper).map(lambda t: f"({t[1]} if {t[0]} else missing)"),
        st.sampled_from(
            [
                "lookup(access, {'trail': 1, 'road': -2.5}, 9)",
                "lookup(comfort, {'good': 3})",
                "lookup([valley, floor], {('Upper', 1): 4, ('Far', 0): 5}, 0.5)",
                "lookup(floor, {-1: 10, 2: 20}, missing)",
                "impute(price, value=12.5)",
                "missing_if(beds, price > 50)",
                "winsorize(change, at=[-10, 15])",
                "mean_of(price, beds, change, at_least=2)",
                "spread_of(price, beds, change, at_least=1)",
                "count_of(open, price > 30, comfort >= 'fair', at_least=1)",
                "reverse(clip(floor, low=0, high=3), 0, 3)",
                "rounded(change, to=0.1)",
                "rounded(price * 3, to=12.5)",
                "floor_to(change, to=0.25)",
                "remainder(change, 7)",
                "sign(change)",
                "length_of(access)",
                "number_in(joined(valley, 'no. -12.5 m', access))",
                "log(price, base=10)",
                "log(beds, shift=1, base=3)",
                "product_of(price, beds, at_least=1)",
                "first_present(price, change, 7)",
                "cases({price > 60: 3, beds < 20: change}, floor)",
            ]
        ),
    )


def _conditions(deeper: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    order = st.sampled_from(["<", "<=", ">", ">=", "==", "!="])
    member = st.sampled_from(sorted(CATEGORIES)).flatmap(
        lambda name: st.tuples(st.just(name), st.sampled_from(CATEGORIES[name]), st.sampled_from(["==", "!="]))
    )
    leaf = st.one_of(
        st.tuples(st.sampled_from(NUMBERS), order, CONSTANTS).map(lambda t: f"{t[0]} {t[1]} {t[2]}"),
        member.map(lambda t: f"{t[0]} {t[2]} '{t[1]}'"),
        st.tuples(order, st.sampled_from(CATEGORIES["comfort"])).map(lambda t: f"comfort {t[0]} '{t[1]}'"),
        st.sampled_from(
            [
                "open",
                "access in ['trail', 'boat']",
                "valley not in ['Far']",
                "floor in [0, 3]",
                "10 <= price < 60",
                "is_missing(beds)",
                "contains(access, 'AI', case=False)",
                "starts_with(valley, 'U')",
                "ends_with(lower(valley), 'er')",
                "matches_pattern(access, '[a-m].*|t.+l')",
                "between(price, 10, beds)",
                "between(month, '2020-05', '2022-03')",
                "any_of(open, beds < 20, change > 0)",
                "all_of([price > 10, beds > 10])",
                "month < '2022-03'",
                "month >= '2021-11'",
                "regroup(access, {'foot': ['trail'], 'rest': ['boat']}) == 'foot'",
                "regroup(access, {'foot': ['trail']}, rest='other') != 'foot'",
                "True",
            ]
        ),
    )
    return st.recursive(
        leaf,
        lambda inner: st.one_of(
            st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
            inner.map(lambda x: f"(not {x})"),
        ),
        max_leaves=4,
    )


CONDITIONS = _conditions(st.nothing())
SCALARS = st.recursive(
    st.one_of(st.sampled_from(NUMBERS), CONSTANTS), lambda deeper: _numbers(deeper, CONDITIONS), max_leaves=7
)
BLOCKS = st.sampled_from(
    [
        "category(access)",
        "category(access, reference='road')",
        "category(access, reference=-1, order='frequency')",
        "category(access, coding='every')",
        "category(access, coding='effect', reference='trail')",
        "category(access, coding='difference')",
        "category(access, coding='helmert', order='frequency')",
        "category(access, coding='polynomial', order=['boat', 'trail', 'road', 'cable car'])",
        "category(comfort, coding='score')",
        "category(comfort, coding='polynomial')",
        "category(access, pool=0.1)",
        "category(access, pool=60, unseen='pool', coding='effect')",
        "category(valley, missing='category')",
        "category(valley, missing='category', coding='helmert')",
        "category(access, order=['trail', 'road'], unseen='missing')",
        "category(floor, reference=2)",
        "category(open)",
        "polynomial(price, 3)",
        "hinge(price, at=[30, 62.5])",
        "spline(price, pieces=3)",
        "spline(change, knots=[-15, 0, 12.5], degree=2)",
        "spline(change, knots=[-15, 0, 12.5], beyond='constant')",
        "spline(price, pieces=3, natural=True)",
        "standardize(price, by=[valley])",
        "waves(change, period=30, pairs=2)",
        "cases({price > 60: 'dear', open: 'fair'}, valley)",
        "first_present(comfort, 'none')",
        "crossed(valley, open)",
        "category(crossed(access, comfort), pool=12)",
        "joined(text_part(access, ' ', 1), valley, by='/')",
        "text_part(access, ' ', 2)",
        "piece(valley, -3, -2)",
        "replaced(lower(valley), 'er', '')",
        "trim(replaced(access, 'a', '  '))",
        "polynomial(change, 4, center=True)",
        "polynomial(beds, 3, orthogonal=True)",
        "bins(price, edges=[20, 40.5])",
        "bins(change, quantiles=4, closed='right')",
        "bins(beds, width=15, missing='category')",
        "bins(price, edges=[[0, 30], [40, 60]], missing='category')",
        "category(bins(price, edges=[[0, 30], [25, 50], [60, 90]]), coding='effect')",
        "category(bins(impute(beds, 'median'), count=3), coding='polynomial')",
        "impute(access, 'mode', by=[valley])",
        "impute(price, 'median')",
        "impute(change, 'mean', by=[valley, floor])",
        "winsorize(change)",
        "category(missing_if(access, price > 70), missing='category')",
        "[price, beds, change]",
        "[log(price), beds / 10]",
        "log([price, beds])",
        "matching('*e', but=[change, 'stays'])",
    ]
)
ALONG = st.recursive(
    st.sampled_from(
        [
            "snow",
            "price",
            "stays",
            "log(price)",
            "percent_change(price, step=2)",
            "change",
            "floor",
            "(bins(snow, edges=[30, 60]) == 'under 30')",
        ]
    ),
    lambda inner: st.one_of(
        st.tuples(st.sampled_from(["lag", "lead"]), inner, st.integers(1, 5)).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(inner, st.integers(1, 2), st.integers(1, 3)).map(
            lambda t: f"difference({t[0]}, order={t[1]}, step={t[2]})"
        ),
        st.tuples(inner, st.integers(1, 4), st.sampled_from(["", ", align='centre'", ", at_least=1"])).map(
            lambda t: f"moving_average({t[0]}, {t[1]}{t[2]})"
        ),
        st.tuples(inner, st.integers(1, 3)).map(lambda t: f"moving_sum({t[0]}, {t[1]}, at_least=1)"),
        st.tuples(inner, st.sampled_from(["previous", "next", "linear"]), st.sampled_from(["", ", limit=1"])).map(
            lambda t: f"impute({t[0]}, '{t[1]}'{t[2]})"
        ),
        st.tuples(inner, st.sampled_from(["+", "-", "*"]), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
        st.tuples(inner, inner, inner).map(lambda t: f"({t[0]} if {t[1]} > 20 else {t[2]})"),
        inner.map(lambda x: f"{x} - mean({x}, by=[hut])"),
        st.tuples(
            st.sampled_from(["sum", "mean", "count", "largest", "smallest"]),
            inner,
            st.sampled_from(["", ", since='year'", ", since='quarter'", ", since=price > 50", ", since=snow < 30"]),
        ).map(lambda t: f"cumulative_{t[0]}({t[1]}{t[2]})"),
        st.tuples(
            st.sampled_from(["median", "sd", "smallest", "largest", "count"]),
            inner,
            st.sampled_from(["2", "3", "5"]),
        ).map(lambda t: f"moving_{t[0]}({t[1]}, {t[2]})"),
        inner.map(lambda x: f"moving_median({x}, 3, align='centre', at_least=2)"),
        inner.map(lambda x: f"moving_quantile({x}, 0.3, 4, at_least=1)"),
        st.sampled_from(["growth(price, step=2)", "growth(stays, kind='log')"]),
        inner.map(lambda x: f"exponential_average({x}, half_life=2.5)"),
        inner.map(lambda x: f"periods_since_last({x} > 40)"),
        inner.map(lambda x: f"({x} / place_in_unit())"),
    ),
    max_leaves=4,
)
LEARNED = st.sampled_from(
    [
        "total(beds)", "total(price, by=[access])", "count(price)", "count(access, by=[valley])", "distinct(floor)",
        "distinct(access, by=[comfort])", "share_of_group(beds, by=[valley])", "frequency_of(access, share=True)",
        "frequency_of(valley)",
        "mean(price)", "median(price, by=[valley])", "sd(change, by=[access])", "smallest(beds)",
        "largest(beds, by=[open])",
        "quantile(price, 0.3)", "quantile(change, 0.9, by=[valley, floor])", "center(price)", "standardize(beds)",
        "winsorize(change, shares=[0.1, 0.8])", "codes(access, order='frequency')", "score(comfort)",
        "impute(price, 'mean', by=[valley])", "impute(beds, 'mode')", "center(lag(price, 1))", "mean(lag(beds, 2))",
        "missing_if(price, price > quantile(price, 0.8))", "codes(bins(price, quantiles=3))",
        "codes(impute(access, 'mode', by=[valley]))", "codes(missing_if(access, codes(valley) > 1))",
    ]
)  # fmt: skip
# what is learned of what lies elsewhere in time, and what lies elsewhere in time of what is learned
LEARNED_ALONG = st.one_of(
    st.tuples(
        st.sampled_from(["center", "standardize", "mean", "median", "largest"]),
        st.one_of(ALONG, st.sampled_from(["lag(price, 1)", "lead(snow, 1)", "lag(snow, 4)"])),
    ).map(lambda t: f"{t[0]}({t[1]})"),
    st.tuples(
        st.sampled_from(["lag", "lead"]),
        st.sampled_from(
            [
                "center(price)",
                "standardize(snow)",
                "impute(price, 'median', by=[valley])",
                "winsorize(snow)",
                "(price - mean(price, by=[valley]))",
                "missing_if(snow, snow > mean(snow))",
                "impute(missing_if(price, price > 60), 'next')",
                "codes(bins(price, quantiles=3))",
            ]
        ),
        st.integers(1, 4),
    ).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
    st.tuples(
        st.sampled_from(["difference({}, step=2)", "moving_average({}, 3, at_least=2)", "impute({}, 'previous')"]),
        st.sampled_from(["center(snow)", "impute(price, 'mean')", "(snow if price > median(price) else missing)"]),
    ).map(lambda t: t[0].format(t[1])),
)
CALENDAR = st.sampled_from(
    [
        "trend()", "trend(degree=2)", "season('month')", "season('quarter', coding='effect', reference='q2')",
        "season('month', coding='waves', pairs=6)", "season('quarter', coding='helmert')", "part(month, 'year')",
        "part(month, 'quarter')", "periods_since('2020-06')", "lag(price, [1, 3])", "lag(snow, [0, 2])",
        "lead(access, 1)", "lag(comfort, 2)", "percent_change(price, step=2)",
        "category(lag(access, 1), missing='category')",
        "season('month', coding='every')",
    ]
)  # fmt: skip
TERMS = st.one_of(
    SCALARS,
    CONDITIONS,
    BLOCKS,
    st.tuples(BLOCKS, SCALARS).map(lambda t: f"{t[0]} * ({t[1]})"),
    st.tuples(SCALARS, BLOCKS).map(lambda t: f"({t[0]}) * {t[1]}"),
    st.tuples(BLOCKS, BLOCKS).map(lambda t: f"{t[0]} * {t[1]}"),
    st.tuples(BLOCKS, BLOCKS, st.sampled_from(NUMBERS)).map(lambda t: f"{t[0]} * {t[2]} * {t[1]}"),
    BLOCKS.map(lambda b: f"2 * {b}"),
)
