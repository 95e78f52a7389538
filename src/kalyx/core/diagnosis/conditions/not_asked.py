"""Kalyx did not start the interpreter, so it cannot know: the reason is said.

How to tell: Kalyx says whose interpreter it would have had to start, and why it did not.
Fix: name the environment yourself, and it is asked.

Example:
    the interpreter itself lies in the folder you stand in, and was not named
    asked: import hivescale

Not this (the environment lies in the folder, its interpreter is a link to one outside):
    heath lies in the folder
    asked in heath: import hivescale
"""
