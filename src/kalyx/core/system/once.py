"""Functions whose result is computed once per reading of the machine, or once per case."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, Concatenate, ParamSpec, Protocol, TypeVar


class HasMemory(Protocol):
    """An object that keeps results for its own lifetime."""

    @property
    def memory(self) -> dict[object, Any]:
        """The results by function, of each by its arguments."""


_Owner = TypeVar("_Owner", bound=HasMemory)
_Arguments = ParamSpec("_Arguments")
_Result = TypeVar("_Result")


def once(
    work_out: Callable[Concatenate[_Owner, _Arguments], _Result],
) -> Callable[Concatenate[_Owner, _Arguments], _Result]:
    """Keep what a function returns with its first argument, by the others, which are hashable and not named."""

    @wraps(work_out)
    def kept(owner: _Owner, /, *arguments: _Arguments.args, **named: _Arguments.kwargs) -> _Result:
        known: dict[object, _Result] = owner.memory.setdefault(kept, {})
        if arguments not in known:
            known[arguments] = work_out(owner, *arguments, **named)
        return known[arguments]

    return kept
