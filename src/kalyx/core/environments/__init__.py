"""Environments: prefixes with their own site-packages.

``reading`` turns a prefix or an interpreter into an environment record.
``condition`` says whether it is sound, with evidence. ``searchpath`` works out
the whole search path in order from files. ``finding`` knows where
environments usually lie.
"""
