"""Words of the trade and of general-purpose libraries for what is called otherwise here, and how it is written."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from facturum.errors import nearest

_PERIODS = ("year", "quarter", "month", "week", "weekday", "day", "hour")
_WRITTEN: dict[str, str] = {
    "category(x)": "dummy dummies get_dummies dummy_code indicator indicators indicator_variable one_hot onehot "
    "one_hot_encode factor as_factor categorical nominal cat contrasts",
    "category(x, reference='..')": "ref reference relevel baseline base_category base omit set_reference",
    "category(x, coding='effect')": "effect effects effect_coding deviation_coding sum_coding",
    "category(x, pool=0.02)": "lump other rare pool_rare collapse_rare",
    "score(x)": "ordinal as_ordinal label_encode ordinal_encode rank_of_category",
    "x * z": "interaction interact interactions cross crossed product times multiply",
    "bins(x, edges=[10, 20])": "cut bin binned bucket buckets bucketize discretize discretise classes intervals",
    "bins(x, quantiles=4)": "qcut ntile ntiles quartile quartiles quintile quintiles decile deciles tercile terciles "
    "quantile_bins equal_frequency percentile_bins",
    "bins(x, width=10)": "equal_width histogram_bins",
    "lag(x, 1)": "shift lagged previous prior prev backshift before last_value lags lag1",
    "lead(x, 1)": "leading next forward ahead next_value leads lead1",
    "difference(x)": "diff delta differenced first_difference change changes d1 d",
    "difference(x, step=12)": "seasonal_difference seasonal_diff yoy_difference",
    "difference(log(x))": "dlog log_diff logdiff log_difference log_return log_returns",
    "percent_change(x)": "pct_change pctchange growth growth_rate percent_growth returns rate_of_change pct",
    "percent_change(x, step=12)": "yoy year_on_year",
    "moving_average(x, 3)": "rolling rolling_mean moving_mean running_mean ma sma rollmean rolling_average "
    "running_average",
    "moving_sum(x, 3)": "rolling_sum rollsum running_total_of_3",
    "impute(x, value=0)": "fillna fill fill_na replace_na replace_missing na_fill nafill fill_missing zero_fill",
    "impute(x, 'median')": "median_fill fill_median imputation impute_median impute_mean simple_imputer",
    "impute(x, 'previous')": "ffill forward_fill locf pad carry_forward",
    "impute(x, 'next')": "bfill backfill backward_fill nocb carry_backward",
    "impute(x, 'linear')": "interpolate interpolation linear_interpolation approx",
    "z if is_missing(x) else x": "coalesce nvl ifnull combine_first first_present",
    "is_missing(x)": "isna isnull is_na is_null isnan is_nan missing_flag missing_indicator flag_missing na",
    "not is_missing(x)": "notna notnull not_na not_null present is_present",
    "missing_if(x, x < 0)": "na_if nullif set_missing to_missing mask",
    "standardize(x)": "zscore z_score zscores scale scaled standardise standardized standardised scale_to_unit "
    "standard_scaler",
    "center(x)": "demean demeaned centre centered centred mean_center center_mean",
    "within(x, by=[z])": "fixed_effect fixed_effects fe absorb absorbed group_demean demean_by within_group",
    "smallest(x)": "min minimum lowest",
    "largest(x)": "max maximum highest",
    "smallest_of(x, z)": "pmin least rowmin row_min min_of",
    "largest_of(x, z)": "pmax greatest rowmax row_max max_of",
    "mean_of(x, z)": "rowmeans row_mean rowmean average_of mean_across scale_score composite",
    "sum_of(x, z)": "rowsums row_sum rowsum row_total total_of index_sum",
    "count_of(x, z)": "rowcount row_count n_valid count_true count_if",
    "mean(x)": "avg average arithmetic_mean",
    "mean(x, by=[z])": "group_mean groupby_mean mean_by average_by group_average",
    "sd(x)": "std stdev stddev standard_deviation sigma",
    "sd(x) ** 2": "var variance",
    "quantile(x, 0.9)": "percentile pctile",
    "log(x)": "ln natural_log loge logarithm",
    "log(x) / log(10)": "log10 lg",
    "log(x) / log(2)": "log2",
    "log(x, shift=1)": "log1p log_plus_one",
    "exp(x) - 1": "expm1",
    "sqrt(x)": "root square_root",
    "x ** 2": "pow power squared sq quadratic",
    "x ** 3": "cube cubed cubic",
    "1 / x": "inverse inv reciprocal_of",
    "polynomial(x, 2)": "poly polynomials polynomial_features powers",
    "polynomial(x, 2, orthogonal=True)": "orthpoly orthogonal_polynomial",
    "clip(x, low=0)": "clamp truncate limit bound censor",
    "winsorize(x)": "winsorise winsor winsorized trim_outliers cap_outliers",
    "1 if price > 40 else 0": "where ifelse if_else iif iff if_then case case_when np_where switch choose",
    "1 < x <= 2": "between in_range",
    "x in ['a', 'b']": "isin is_in one_of any_of member",
    "regroup(x, {'new': ['old', 'older']})": "recode recode_values collapse merge_categories group_categories",
    "lookup(x, {'a': 1, 'b': 2}, 0)": "map mapping replace_values vlookup xlookup match remap dict_map",
    "reverse(x, 1, 5)": "reverse_score reverse_code reverse_coded invert_scale",
    "season('month')": "seasonal seasonality month_dummies seasonal_dummies monthly_dummies",
    "season('month', coding='waves')": "fourier harmonic harmonics trigonometric sincos cyclical",
    "trend()": "time_trend linear_trend time_index t_index",
    "periods_since('2020-03')": "months_since days_since elapsed time_since",
    "abs(x)": "absolute magnitude",
    "every_number()": "all_numeric numeric_columns all_numbers select_numeric",
    "every_category()": "all_categorical categorical_columns select_categorical",
    "matching('q_*')": "starts_with_name columns_like select_columns contains_name",
    "date_of(x, z)": "make_date to_date date as_date todate",
    "asinh(x)": "arcsinh ihs inverse_hyperbolic_sine",
    **{f"part(x, '{period}')": f"{period} {period}_of get_{period} extract_{period}" for period in _PERIODS},
}
OTHER_WORDS = {word: written for written, words in _WRITTEN.items() for word in words.split()}
_OF_SEVERAL = {
    "min": "smallest_of(x, z)", "minimum": "smallest_of(x, z)", "max": "largest_of(x, z)",
    "maximum": "largest_of(x, z)", "avg": "mean_of(x, z)", "average": "mean_of(x, z)", "sum": "sum_of(x, z)",
}  # fmt: skip
_OPTION_WORDS = {
    "ref": "reference", "base": "reference", "baseline": "reference", "base_level": "reference", "q": "quantiles",
    "n_quantiles": "quantiles", "breaks": "edges", "cuts": "edges", "cut_points": "edges", "bin_width": "width",
    "n_bins": "count", "nbins": "count", "bins": "count", "periods": "step", "n": "k", "lags": "k", "groupby": "by",
    "group_by": "by", "group": "by", "groups": "by", "within": "by", "method": "how", "strategy": "how",
    "fill_value": "value", "fill": "value", "with": "value", "lower": "low", "upper": "high", "min": "low",
    "max": "high", "min_periods": "at_least", "min_count": "at_least", "size": "window", "length": "window",
    "center": "align", "p": "share", "prob": "share", "quantile": "share", "power": "degree", "order": "degree",
    "raw": "orthogonal", "contrast": "coding", "encoding": "coding", "levels": "order", "categories": "order",
    "min_frequency": "pool", "rare": "pool", "other": "rest", "default": "otherwise", "else_": "otherwise",
    "limits": "shares", "offset": "shift", "right": "closed",
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
