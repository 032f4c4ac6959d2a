"""What every room uses: argument checks, threads, notebook tables, warnings."""
