"""Interpreters: which executable a word starts, and what that executable is.

``versions`` reads the exact version and build of an installation from its
files. ``reading`` follows an executable through links, launcher scripts and
environments to its installation. ``shims`` follows the launchers of version
managers. ``asking`` starts the interpreter with the probe where reading
cannot know. ``finding`` lists what is on this machine.
"""
