"""A command is not on the path of this seat, though an environment here has it (or no one has).

Has it:
    hivescale-read lies in heath's bin, and heath is not on PATH
    asked: kalyx why program:hivescale-read

Only looks like it (it is on PATH, and its first line is dead):
    hivescale-read on PATH names /home/keeper/gone/bin/python
    asked: kalyx why program:hivescale-read
"""

YIELDS_TO = ()
