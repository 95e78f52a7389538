"""``python -m kalyx``."""

import sys

# The folder stood in comes first when a module is run: a file there must not stand for one that Kalyx needs.
if __name__ == "__main__" and not getattr(sys.flags, "safe_path", False):
    del sys.path[0]

from kalyx.cli.entry import main

if __name__ == "__main__":
    main()
