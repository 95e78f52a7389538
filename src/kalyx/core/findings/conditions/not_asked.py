"""Kalyx did not start the interpreter, so it cannot know: the reason is said.

Has it:
    the interpreter itself lies in the folder you stand in, and was not named
    asked: import hivescale

Only looks like it (the environment lies in the folder, its interpreter is a link to one outside):
    heath lies in the folder
    asked in heath: import hivescale
"""
