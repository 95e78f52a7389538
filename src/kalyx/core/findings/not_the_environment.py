"""The error is in the user's own code or data (a name never defined, a wrong file): no environment will mend it.

Has it:
    a traceback that ends in a NameError in spring/weights.py
    asked: kalyx why -

Only looks like it (a traceback that ends in an import that failed):
    a traceback that ends in ModuleNotFoundError in spring/weights.py
    asked: kalyx why -
"""

YIELDS_TO = ()
