"""Editors' settings: descriptors of their files as data, one reader a format, and the choices they make.

A settings file is described by its form: where it lies, how it is written,
which key names an interpreter and which part of the editor that governs. The
table ships as ``core/data/editors.json``; a file of the user's own adds to it.
"""
