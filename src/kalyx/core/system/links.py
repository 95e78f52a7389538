"""A copy of a folder made of links, with files left out or under another name; the real folder is not changed."""

from __future__ import annotations

import os
from collections.abc import Mapping


def link_all(real: str, folder: str, instead: Mapping[str, str], deep: str = "") -> None:
    """Fill ``folder`` with links to all that is in ``real``. Raises OSError where a link cannot be made.

    ``instead``: paths in it that get another name (a path, of which the last part counts) or, for an empty text, no
    link; folders on the way to them are made again too. ``deep``: a folder right in it that is made again as a whole,
    so that what is in it finds its neighbours here. Compiled files are left out where a folder is made again.
    """
    os.makedirs(folder, exist_ok=True)
    for name in sorted(os.listdir(real)):
        path = os.path.join(real, name)
        if path in instead:
            if instead[path]:
                os.symlink(path, os.path.join(folder, os.path.basename(instead[path])))
        elif any(other.startswith(path + os.sep) for other in instead) or (name == deep and os.path.isdir(path)):
            link_all(path, os.path.join(folder, name), instead)
        elif name != "__pycache__":
            os.symlink(path, os.path.join(folder, name))
