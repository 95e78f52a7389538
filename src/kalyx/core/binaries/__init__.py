"""Compiled files: what their headers say, and how that fits the interpreter that loads them.

One module reads the three forms (ELF, Mach-O, PE) through the standard
packages for them, each loaded only when such a file is met.
"""
