"""The loop of a module that asks for itself while it is still loading."""

from __future__ import annotations

from kalyx.core.imports.case import Case
from kalyx.core.imports.lacking import module_asked
from kalyx.core.imports.trial import Frame, lacking_name


def loop_of(case: Case) -> list[Frame]:
    """The frames of the loop: from the one that is loading the module to the one that asks for it again; else empty."""
    raised = case.raised
    if raised is None:
        return []
    text = raised.text
    lacks = lacking_name(raised) is not None or "partially initialized module" in text
    if not lacks:
        return []
    frames = case.frames()
    named = text.split("'")[1] if text.count("'") > 1 and "partially" in text else None
    # Of an AttributeError the name is that of the attribute.
    module = (raised.name if raised.import_error else None) or named
    module = module or module_asked(case)
    location = case.resolver.resolve(module).location if module else None
    if location is None or not frames:
        return []
    if frames[-1].file == location.path:
        # A package may ask itself for a part; one file has none.
        asks_itself = location.kind == "module" and frames[-1].function == "<module>"
        return frames[-1:] if asks_itself else []
    starts = [number for number, frame in enumerate(frames) if frame.file == location.path]
    return frames[starts[-1] :] if starts else []
