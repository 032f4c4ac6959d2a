"""Operations on numbers: transforms, polynomials, statistics, scores of items."""
