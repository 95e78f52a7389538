"""Seats: the places that start an interpreter, one module each, same shape.

``shell`` reads what words on ``PATH`` start and whether the activation
variables agree; ``callers`` finds the program Kalyx was started from;
``kernel`` and ``notebook`` turn specs and notebook files into seats.
"""
