"""Other programs' formats: SARIF for findings, CSV for grids."""
