"""The made-up machine: Larkmoor, a honey cooperative, and the walk through the whole job on it.

``machine`` builds it in a folder from real virtual environments and made-up
packages; ``wheels`` writes those packages offline; ``walk`` runs the real
commands one after the other; ``standin`` is a small kernel for machines without
the real one.
"""
