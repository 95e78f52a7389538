"""Findings: everything Kalyx can say about an import, a kernel, an environment or a seat.

One module a cause, all alike: a docstring whose first line says what it is and
whose example shows the smallest case that has it and one that only looks like
it; ``YIELDS_TO``, the more specific causes that stand before it (with ``FOLDS``
it is not said at all beside one of those, which says the same and more); and one
function for each kind of thing it is found about: ``look`` (a case of an
import), ``look_at_kernel``, ``look_at_environment``, ``look_at_seat``. Each
returns a finding with evidence, or None. ``catalogue`` lists them.
"""
