"""Kalyx did not start the interpreter, so it does not know whether the import works; it says why.

How to tell: the answer names the interpreter and the reason why it was not started.
Fix: name the environment yourself with --in.

Example:
    the interpreter itself is in the current folder, and was not named
    asked: import hivescale

Not this (the environment is in the current folder, its interpreter is a link to one outside):
    heath is in the current folder
    asked in heath: import hivescale
"""
