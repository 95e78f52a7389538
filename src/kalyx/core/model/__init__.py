"""Records and results: the data types that all packages share."""

from typing import Literal

System = Literal["linux", "macos", "windows"]
