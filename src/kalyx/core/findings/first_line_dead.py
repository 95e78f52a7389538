"""A command's first line names an interpreter that is gone, or another one than the environment it lies in.

Has it:
    hivescale-read in heath's bin names /home/keeper/old/heath/bin/python
    asked: kalyx why program:hivescale-read

Only looks like it (the command is not on PATH at all):
    no hivescale-read is on PATH
    asked: kalyx why program:hivescale-read
"""

YIELDS_TO = ()
