"""Kalyx: which interpreter each of your seats uses, and why an import fails there."""

__version__ = "0.3.0"
