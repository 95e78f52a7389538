"""Imports: from a word to what an interpreter would load for it, and why it fails.

``names`` reads what was asked. ``resolver`` finds by reading what a search path
offers for a name. ``trial`` lets the real interpreter import it under limits.
``case`` puts both together for the findings.
"""
