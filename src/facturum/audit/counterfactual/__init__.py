"""What would be if cells of the source were others: rows built anew with changed values."""
