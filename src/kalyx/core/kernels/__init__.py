"""Notebook kernels: where their specs are, what each starts, and the messaging protocol.

``folders`` computes the search folders of a given server. ``specs`` reads and
resolves specs by the server's rules. ``makers`` lists the kernel packages.
``wire`` is the messaging protocol without sockets. ``actions/registering``
writes and removes specs; ``queries/rehearse`` starts a kernel and talks to it.
"""
