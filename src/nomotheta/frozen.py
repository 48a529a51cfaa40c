"""Frozen dataclasses with slots that are quickly made.

For each class of its own, `dataclass` writes and compiles six functions, which takes a fifth of a small command's time.
Those that tell, compare and hash instances are the same for all, so here one does for all classes.
"""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import Any, TypeVar, dataclass_transform

Class = TypeVar("Class")
_NAMES: dict[tuple[type, str], tuple[str, ...]] = {}


def _names(of: Any, what: str) -> tuple[str, ...]:
    """The fields of a class by which its instances are compared, or that are told of them."""
    found = _NAMES.get((of, what))
    if found is None:
        found = _NAMES[of, what] = tuple(each.name for each in fields(of) if getattr(each, what))
    return found


def _repr(self: Any) -> str:
    told = ", ".join(f"{name}={getattr(self, name)!r}" for name in _names(type(self), "repr"))
    return f"{type(self).__qualname__}({told})"


def _eq(self: Any, other: object) -> Any:
    if other.__class__ is not self.__class__:
        return NotImplemented
    return all(getattr(self, name) == getattr(other, name) for name in _names(type(self), "compare"))


def _hash(self: Any) -> int:
    return hash(tuple(getattr(self, name) for name in _names(type(self), "compare")))


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def frozen(of: type[Class]) -> type[Class]:
    """The class as `dataclass(frozen=True, slots=True)` makes it."""
    for name, method in (("__repr__", _repr), ("__eq__", _eq), ("__hash__", _hash)):
        if name not in vars(of):
            setattr(of, name, method)
    return dataclass(frozen=True, slots=True, repr=False, eq=False)(of)
