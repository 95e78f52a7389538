"""The core: facts about a machine in, results out.

Nothing here prints, parses a command line or draws. Every fact of the machine
comes through ``core.system``; every answer is a record of ``core.model``.
The flow is one way: question, target, seat, interpreter, environment, search
path, resolution, trial, case, findings. A package knows those before it only.
"""
