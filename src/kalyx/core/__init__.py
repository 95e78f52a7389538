"""The core: facts in, records out.

Nothing here prints, parses a command line or draws. Every fact of the machine
comes through a door (``core.doors``); every answer is a record (``core.facts``).
The flow is one way: question, target, seat, interpreter, environment, search
path, resolution, trial, case, findings. A room knows those before it only.
"""
