"""Frozen dataclasses with slots that are quickly made.

For each class of its own, `dataclass` writes and compiles six functions, which takes a fifth of a small command's time.
Those that tell, compare, hash and guard instances are the same for all, so here one does for all classes; the one that
makes instances is compiled when the first of them is made, since most commands need few of the classes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import MISSING, Field, FrozenInstanceError, dataclass, field, fields
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


def _setattr(_self: Any, name: str, _value: Any) -> None:
    raise FrozenInstanceError(f"cannot assign to field {name!r}")


def _delattr(_self: Any, name: str) -> None:
    raise FrozenInstanceError(f"cannot delete field {name!r}")


def _getstate(self: Any) -> list[Any]:
    return [getattr(self, each.name) for each in fields(self)]


def _setstate(self: Any, state: list[Any]) -> None:
    for each, value in zip(fields(self), state, strict=True):
        object.__setattr__(self, each.name, value)


_METHODS: dict[str, Callable[..., Any]] = {
    "__repr__": _repr, "__eq__": _eq, "__hash__": _hash, "__setattr__": _setattr, "__delattr__": _delattr,
    "__getstate__": _getstate, "__setstate__": _setstate,
}  # fmt: skip


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def frozen(of: type[Class]) -> type[Class]:
    """The class as `dataclass(frozen=True, slots=True)` makes it."""
    for name, method in _METHODS.items():
        if name not in vars(of):
            setattr(of, name, method)
    of.__doc__ = of.__doc__ or of.__name__  # else `dataclass` writes one, slowly
    made: Any = dataclass(slots=True, init=False, repr=False, eq=False)(of)

    def first(self: Any, *args: Any, **named: Any) -> None:
        made.__init__ = _initializer(made)
        made.__init__(self, *args, **named)

    made.__init__ = first
    return made  # type: ignore[no-any-return]


def _initializer(of: Any) -> Callable[..., None]:
    """What makes an instance from the values of its fields."""
    known: dict[str, Any] = {"_set": object.__setattr__}
    plain, named, body = list[str](), list[str](), list[str]()
    for each in fields(of):
        value = _value(each, known)
        if each.init:
            parameter = each.name
            if each.default is not MISSING or each.default_factory is not MISSING:
                parameter += f"=_default_{each.name}"
                known[f"_default_{each.name}"] = MISSING if each.default is MISSING else each.default
            (named if each.kw_only else plain).append(parameter)
        if value:
            body.append(f" _set(self, {each.name!r}, {value})")
    if hasattr(of, "__post_init__"):
        body.append(" self.__post_init__()")
    parameters = ", ".join(["self", *plain, *(["*", *named] if named else [])])
    exec("\n".join([f"def __init__({parameters}):", *body, " return None"]), known)  # noqa: S102 - as `dataclass` does
    made: Callable[..., None] = known["__init__"]
    made.__qualname__ = f"{of.__qualname__}.__init__"
    return made


def _value(each: Field[Any], known: dict[str, Any]) -> str:
    """The expression of a field's value, or nothing where it has none."""
    if each.default_factory is not MISSING:
        known[f"_make_{each.name}"], known["_missing"] = each.default_factory, MISSING
        made = f"_make_{each.name}()"
        return f"{made} if {each.name} is _missing else {each.name}" if each.init else made
    if each.init:
        return each.name
    if each.default is not MISSING:
        known[f"_default_{each.name}"] = each.default
        return f"_default_{each.name}"
    return ""
