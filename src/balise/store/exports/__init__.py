"""Writing what a console keeps as Parquet, which other systems read as it is."""
