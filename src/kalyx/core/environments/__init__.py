"""Environments: prefixes with their own site-packages.

``reading`` turns a prefix or an interpreter into an environment record.
``searchpath`` works out the whole search path in order from files. ``finding``
lists the folders that environments usually are in; ``found`` reads them all.
"""
