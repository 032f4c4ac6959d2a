"""The column map, the row map, the sentences of readings, fingerprints and verifying."""
