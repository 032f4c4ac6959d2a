"""Series brought to another step, joined by period, with history before and periods to come after."""
