"""Packages: what is installed where, read from the metadata that installers leave.

``metadata`` reads one site folder's distributions lazily; ``requirements``
judges what a distribution asks for against what is there.
"""
