"""How values are spread and compared: histograms, cut points, contrasts, drift."""
