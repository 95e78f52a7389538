"""Records and results: the shapes that every package speaks in."""
