"""Seats: the places that start an interpreter, one kind a module, all made by ``build`` and of one record type.

``callers`` finds the program Kalyx was started from, and is the one place that walks up processes.
"""
