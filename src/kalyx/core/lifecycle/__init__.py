"""The life of an environment: made, entered, filled, compared, handed over, removed."""
