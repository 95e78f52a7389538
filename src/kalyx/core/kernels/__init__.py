"""Notebook kernels: where their specs lie, what each starts, and talking to one.

``folders`` computes the search folders of a given server. ``specs`` reads and
resolves specs by the server's rules. ``makers`` knows what makes an
environment able to be a kernel. ``registering`` writes and removes specs.
``wire`` is the messaging protocol without sockets; ``rehearsal`` starts a
kernel and speaks it.
"""
