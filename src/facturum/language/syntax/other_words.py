"""Words of the trade and of general-purpose libraries for what is called otherwise here, and how it is written."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from facturum.errors import nearest

_PERIODS = ("year", "quarter", "month", "week", "weekday", "day", "hour")
_WRITTEN: dict[str, str] = {
    "category(x)": "dummy dummies dummy_code dummy_variable dummy_variables indicator indicators indicator_variable "
    "one_hot onehot factor categorical nominal contrasts",
    "category(x, reference='..')": "ref reference reference_category baseline base_category omitted_category",
    "category(x, coding='effect')": "effect_coding deviation_coding sum_coding",
    "category(x, pool=0.02)": "pool_rare rare_categories",
    "score(x)": "ordinal ordinal_code",
    "x * z": "interaction interact interactions cross product multiply",
    "bins(x, edges=[10, 20])": "cut bin binned bucket buckets binning intervals",
    "bins(x, quantiles=4)": "ntile ntiles quartile quartiles quintile quintiles decile deciles tercile terciles "
    "tertile tertiles quantile_bins equal_frequency",
    "bins(x, width=10)": "equal_width",
    "lag(x, 1)": "shift lagged previous prior previous_value lags",
    "lead(x, 1)": "leading next next_value leads forward",
    "difference(x)": "diff delta differenced first_difference",
    "difference(x, step=12)": "seasonal_difference seasonal_diff",
    "difference(log(x))": "log_diff log_difference log_change log_return log_returns",
    "percent_change(x)": "growth_rate percent_growth relative_change rate_of_change",
    "percent_change(x, step=12)": "yoy year_on_year",
    "moving_average(x, 3)": "rolling rolling_mean moving_mean running_mean rolling_average running_average ma",
    "moving_sum(x, 3)": "rolling_sum running_sum",
    "impute(x, value=0)": "fillna fill fill_missing replace_missing zero_fill",
    "impute(x, 'median')": "median_fill fill_median imputation impute_median",
    "impute(x, 'mean')": "mean_fill fill_mean impute_mean",
    "impute(x, 'previous')": "ffill forward_fill carry_forward locf",
    "impute(x, 'next')": "bfill backward_fill carry_backward nocb",
    "impute(x, 'linear')": "interpolate interpolation linear_interpolation",
    "first_present(x, z)": "coalesce first_valid first_known",
    "is_missing(x)": "isna isnull isnan missing_flag missing_indicator flag_missing",
    "not is_missing(x)": "notna notnull not_missing is_present",
    "missing_if(x, x < 0)": "set_missing to_missing",
    "standardize(x)": "zscore z_score zscores scale scaled standardise standardized standardised",
    "center(x)": "demean demeaned centre centered centred mean_center",
    "within(x, by=[z])": "fixed_effect fixed_effects within_transformation group_demean demean_by",
    "smallest(x)": "min minimum lowest",
    "largest(x)": "max maximum highest",
    "smallest_of(x, z)": "row_min row_minimum min_of",
    "largest_of(x, z)": "row_max row_maximum max_of",
    "mean_of(x, z)": "row_mean row_average average_of",
    "sum_of(x, z)": "row_sum row_total total_of",
    "count_of(x, z)": "row_count count_true",
    "mean(x)": "avg average arithmetic_mean",
    "mean(x, by=[z])": "group_mean mean_by average_by group_average",
    "sd(x)": "std stdev stddev standard_deviation",
    "sd(x) ** 2": "var variance",
    "quantile(x, 0.9)": "percentile",
    "log(x)": "ln natural_log logarithm",
    "log(x, base=10)": "log10",
    "log(x, base=2)": "log2",
    "log(x, shift=1)": "log1p",
    "exp(x) - 1": "expm1",
    "sqrt(x)": "root square_root",
    "x ** 2": "pow power squared quadratic",
    "x ** 3": "cube cubed cubic",
    "1 / x": "inverse inv",
    "polynomial(x, 2)": "poly polynomials powers",
    "polynomial(x, 2, orthogonal=True)": "orthogonal_polynomial",
    "clip(x, low=0)": "clamp censor",
    "winsorize(x)": "winsorise winsorized winsorised cap_outliers",
    "1 if price > 40 else 0": "where if_then if_then_else",
    "cases({price > 40: 'dear', price > 20: 'fair'}, 'cheap')": "case case_when switch",
    "between(x, 1, 2)": "in_range is_between",
    "any_of(x, z)": "any some",
    "all_of(x, z)": "all every",
    "x in ['a', 'b']": "isin is_in one_of",
    "rounded(x)": "round nearest rint",
    "rounded(x, to=0.01)": "round_to",
    "floor_to(x)": "floor trunc truncate",
    "-floor_to(-x)": "ceil ceiling",
    "remainder(x, 7)": "mod modulo modulus",
    "sign(x)": "signum sgn",
    "days_between(month, '2024-01-01')": "datediff date_diff days_diff duration",
    "periods_between(month, '2024-01-01', 'month')": "months_between month_diff",
    "age_in_years('2001-05', month)": "age years_between year_diff",
    "spline(x)": "splines bs b_spline bspline smooth cubic_spline",
    "spline(x, natural=True)": "ns natural_spline restricted_cubic_spline rcs",
    "total(x, by=[z])": "sum group_sum sum_by",
    "count(x, by=[z])": "group_size size n_rows",
    "distinct(x, by=[z])": "n_distinct nunique count_distinct unique_count",
    "share_of_group(x, by=[z])": "share proportion percent_of_total",
    "frequency_of(x)": "count_encoding frequency_encoding value_counts frequency",
    "standardize(x, by=[z])": "group_standardize group_zscore",
    "cumulative_sum(x)": "cumsum running_total cum_sum",
    "cumulative_mean(x)": "cummean expanding_mean expanding cum_mean",
    "cumulative_count(x)": "cumcount cum_count",
    "cumulative_largest(x)": "cummax running_max",
    "cumulative_smallest(x)": "cummin running_min",
    "exponential_average(x, half_life=3)": "ewm ewma ema exponential_smoothing",
    "periods_since_last(x > 0)": "time_since_last since_last recency",
    "place_in_unit()": "row_number sequence_number rank_in_group observation_number",
    "moving_median(x, 3)": "rolling_median running_median",
    "moving_sd(x, 12)": "rolling_std rolling_sd moving_std volatility",
    "moving_smallest(x, 3)": "rolling_min moving_min",
    "moving_largest(x, 3)": "rolling_max moving_max",
    "moving_quantile(x, 0.9, 12)": "rolling_quantile",
    "moving_count(x, 12)": "rolling_count",
    "contains(x, 'text')": "str_contains has_text includes like",
    "starts_with(x, 'text')": "startswith begins_with prefix",
    "ends_with(x, 'text')": "endswith suffix",
    "matches_pattern(x, '.*text.*')": "regex regexp regex_match rlike matches grepl",
    "lower(x)": "tolower to_lower lowercase lcase",
    "trim(x)": "strip squish strip_spaces",
    "replaced(x, 'old', 'new')": "replace gsub str_replace substitute",
    "text_part(x, ' ', 1)": "split str_split split_part",
    "piece(x, 1, 3)": "substr substring mid slice left right",
    "length_of(x)": "nchar len str_len text_length",
    "number_in(x)": "parse_number extract_number to_number",
    "joined(x, z)": "concat concatenate paste str_concat",
    "crossed(x, z)": "combine combined combination group_key",
    "product_of(x, z)": "prod row_product",
    "hinge(x, at=[1])": "piecewise piecewise_linear broken_line linear_spline knot knots segmented",
    "waves(x, period=365.25)": "sine_cosine sin_cos cyclic",
    "regroup(x, {'new': ['old', 'older']})": "recode recoded merge_categories group_categories",
    "lookup(x, {'a': 1, 'b': 2}, 0)": "map mapping remap replace_values",
    "reverse(x, 1, 5)": "reverse_score reverse_code reverse_coded",
    "season('month')": "seasonal seasonality month_dummies seasonal_dummies monthly_dummies",
    "season('month', coding='waves')": "fourier harmonic harmonics trigonometric cyclical",
    "trend()": "time_trend linear_trend time_index",
    "periods_since('2020-03')": "months_since days_since elapsed time_since",
    "abs(x)": "absolute magnitude",
    "every_number()": "all_numeric numeric_columns all_numbers",
    "every_category()": "all_categorical categorical_columns",
    "date_of(x, z)": "make_date to_date date",
    "asinh(x)": "arcsinh ihs inverse_hyperbolic_sine",
    **{f"part(x, '{period}')": f"{period} {period}_of get_{period} extract_{period}" for period in _PERIODS},
}
OTHER_WORDS = {word: written for written, words in _WRITTEN.items() for word in words.split()}
_OF_SEVERAL = {
    "min": "smallest_of(x, z)", "minimum": "smallest_of(x, z)", "max": "largest_of(x, z)",
    "maximum": "largest_of(x, z)", "avg": "mean_of(x, z)", "average": "mean_of(x, z)", "sum": "sum_of(x, z)",
}  # fmt: skip
_OPTION_WORDS = {
    "ref": "reference", "base": "reference", "baseline": "reference", "q": "quantiles", "cut_points": "edges",
    "bin_width": "width", "n_bins": "count", "bins": "count", "periods": "step", "n": "k", "lags": "k",
    "groupby": "by", "group_by": "by", "group": "by", "groups": "by", "within": "by", "method": "how",
    "fill_value": "value", "fill": "value", "lower": "low", "upper": "high", "min": "low", "max": "high",
    "min_periods": "at_least", "min_count": "at_least", "size": "window", "length": "window", "p": "share",
    "prob": "share", "quantile": "share", "power": "degree", "contrast": "coding", "encoding": "coding",
    "levels": "order", "categories": "order", "rare": "pool", "other": "rest", "default": "otherwise",
}  # fmt: skip
NEAR = 0.77  # how alike a misspelt word is to what is meant


def written_here(word: str, given: Iterable[str] = ()) -> str | None:
    """Return how what a word of the trade means is written here; None where it is not known, or is none of the job.

    Args:
        word: the word.
        given: the texts that stood beside it, which take the place of x and z.

    Example:
        >>> written_here("fillna"), written_here("shift", ["stays"]), written_here("entropy")
        ('impute(x, value=0)', 'lag(stays, 1)', None)
        >>> written_here("max"), written_here("max", ["snow", "rain"])
        ('largest(x)', 'largest_of(snow, rain)')
    """
    beside = list(given)
    several = _OF_SEVERAL.get(word.casefold()) if len(beside) > 1 else None
    written = several or OTHER_WORDS.get(word.casefold())
    if written is None:
        return None
    names = dict(zip(("x", "z"), beside, strict=False))
    return re.sub(r"\b[xz]\b", lambda match: names.get(match[0], match[0]), written)


def meant(word: str, known: Iterable[str], given: Iterable[str] = ()) -> tuple[str, str]:
    """Return what may be meant by an operation that there is not, and the remedy.

    Example:
        >>> meant("fillna", ["impute"], ["price"])
        ('', "Write impute(price, value=0); 'facturum operations impute' tells more.")
        >>> meant("meann", ["mean", "median"])[0]
        "; did you mean 'mean'?"
    """
    names = list(known)
    written = written_here(word, given)
    if written is None:
        return _near(word, names), "'facturum operations' lists them."
    own = [name for name in re.findall(r"[a-z_]+(?=\()", written) if name in names]
    return "", f"Write {written}{f'; {chr(39)}facturum operations {own[0]}{chr(39)} tells more' if own else ''}."


def option_meant(word: str, known: Iterable[str]) -> str:
    """Return what may be meant by an option that an operation does not have.

    Example:
        >>> option_meant("ref", ["x", "reference"]), option_meant("ref", ["x", "by"])
        ("; did you mean 'reference'?", '')
    """
    names = list(known)
    other = _OPTION_WORDS.get(word)
    return f"; did you mean '{other}'?" if other in names else _near(word, names)


def _near(word: str, names: Sequence[str]) -> str:
    """Return the nearest of some names: one with the same letters, or one that is much alike."""
    same = [name for name in names if sorted(name) == sorted(word.casefold())]
    return f"; did you mean '{same[0]}'?" if same else nearest(word, names, NEAR)
