"""Operations on missing values."""
