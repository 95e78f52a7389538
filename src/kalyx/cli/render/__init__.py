"""Records drawn for people: text at a terminal, and pages."""
