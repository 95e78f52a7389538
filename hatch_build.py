"""The description and the links of what is handed out, which depend on where its files can be read.

``KALYX_PLACE`` is the address below which they can, so that ``$KALYX_PLACE/README.md`` is the README. With it the
package's description, which is read far from these files, leads to them by full addresses, and the metadata has links
(core metadata, Description and Project-URL). Without it there is no such place, and none is made up.
"""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

from hatchling.metadata.plugin.interface import MetadataHookInterface

LINKS = {
    "Homepage": "README.md",
    "Documentation": "docs/guide.md",
    "Changelog": "CHANGELOG.md",
    "Security": "docs/security.md",
}
_RELATIVE = re.compile(r"(?<=\]\()(?![a-z]+:|#)")


def with_links(metadata: dict[str, Any], readme: str, place: str) -> None:
    """Fill in ``readme`` and ``urls`` (PEP 621) for files that can be read below ``place``; empty: nowhere."""
    place = place.rstrip("/")
    if place and not re.match("https?://", place):
        raise ValueError(f"KALYX_PLACE is no address: {place!r}; it begins with https://")
    metadata["urls"] = {name: f"{place}/{file}" for name, file in LINKS.items()} if place else {}
    text = _RELATIVE.sub(f"{place}/", readme) if place else readme
    metadata["readme"] = {"content-type": "text/markdown", "text": text}


class Places(MetadataHookInterface):
    """What the build asks."""

    def update(self, metadata: dict[str, Any]) -> None:
        """Fill in what ``pyproject.toml`` calls dynamic."""
        readme = Path(self.root, "README.md").read_text(encoding="utf-8")
        with_links(metadata, readme, os.environ.get("KALYX_PLACE", ""))
