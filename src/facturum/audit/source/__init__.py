"""The source as a build saw it: fingerprints of its variables, what stands behind them, rows that are new."""
