"""Findings: everything Kalyx can say about an import, a kernel, an environment or a seat.

One module a cause, all alike: a docstring whose first line says what it is and
whose example shows the smallest case that has it and one that only looks like
it; and one function for each kind of thing it is found about, which returns a
finding with evidence, or None: ``look`` takes a case of an import, and is called
only for the kind of case that ``LOOKS_AT`` names (``imports.case``); the others are
``look_at_dead``, ``look_at_environment``, ``look_at_kernel``, ``look_at_seat``.

``causes`` holds one file a cause; their tiers stand in ``catalogue``. ``PRECEDES`` names the
few causes of a higher place that one stands before, each with the reason. One
with ``SUPPRESSED_BY_OTHERS`` is left out where a cause that precedes it is found. What several
causes need is in ``shared``: no cause imports another.
"""
