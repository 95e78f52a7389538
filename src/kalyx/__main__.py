"""``python -m kalyx``."""

import sys

# With "python -m" the current folder is first on sys.path: no file there may replace a module that Kalyx needs.
if __name__ == "__main__" and not getattr(sys.flags, "safe_path", False):
    del sys.path[0]

from kalyx.cli.entry import main

if __name__ == "__main__":
    main()
