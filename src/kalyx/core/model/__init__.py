"""Records and results: the data types that all packages share."""
