"""Operations on categories: codings, regrouping, bins, lookups."""
