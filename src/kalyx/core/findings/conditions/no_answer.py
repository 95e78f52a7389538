"""The kernel was started and gave no answer: it ended, stayed silent, or did not speak the protocol.

Has it:
    kernel heath starts a program that ends at once
    rehearsed

Only looks like it (it answers, and an import in it fails):
    kernel heath starts /home/keeper/heath/bin/python
    rehearsed with --import hivescale
"""
