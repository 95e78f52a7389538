"""One module a command: ``SUMMARY``, ``arguments(parser)`` and ``run(call)``, which returns the exit status."""
