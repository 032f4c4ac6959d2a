"""Operations along time and on times."""
