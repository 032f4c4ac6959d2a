"""Plans resolved anew on parts of the rows or for periods to come: folds, resampling, forecasts."""
