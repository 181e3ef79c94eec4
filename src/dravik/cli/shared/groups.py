"""Groups of options that belong together: written once, and one parameter of a command instead of many."""

import inspect
from collections.abc import Callable
from dataclasses import MISSING, fields
from functools import wraps
from typing import Any, Self

__all__ = ["OptionGroup", "grouped"]


class OptionGroup:
    """The base of a frozen dataclass whose fields are options, or groups in their turn."""

    @classmethod
    def options(cls) -> dict[str, tuple[Any, Any]]:
        """Return what the command line asks for: by name the annotation and the default."""
        found: dict[str, tuple[Any, Any]] = {}
        for field in fields(cls):  # type: ignore[arg-type]
            if isinstance(field.type, type) and issubclass(field.type, OptionGroup):
                found |= field.type.options()
            else:
                found[field.name] = (field.type, inspect.Parameter.empty if field.default is MISSING else field.default)
        return found

    @classmethod
    def taken(cls, given: dict[str, Any]) -> Self:
        """Return the group of the options that were given, which are taken out."""
        parts: dict[str, Any] = {}
        for field in fields(cls):  # type: ignore[arg-type]
            if isinstance(field.type, type) and issubclass(field.type, OptionGroup):
                parts[field.name] = field.type.taken(given)
            else:
                parts[field.name] = given.pop(field.name)
        return cls(**parts)


def grouped(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command the options of its groups, each in the place of the parameter that is one."""
    signature = inspect.signature(command)
    kind = inspect.Parameter.KEYWORD_ONLY
    groups: dict[str, type[OptionGroup]] = {}
    parameters = []
    for parameter in signature.parameters.values():
        wanted = parameter.annotation
        if not (isinstance(wanted, type) and issubclass(wanted, OptionGroup)):
            parameters.append(parameter.replace(kind=kind))
            continue
        groups[parameter.name] = wanted
        for name, (annotation, default) in wanted.options().items():
            parameters.append(inspect.Parameter(name, kind, default=default, annotation=annotation))

    @wraps(command)
    def told(**given: Any) -> None:
        made = {name: group.taken(given) for name, group in groups.items()}
        command(**made, **given)

    told.__signature__ = signature.replace(parameters=parameters)  # type: ignore[attr-defined]
    told.__annotations__ = {p.name: p.annotation for p in parameters} | {"return": None}
    return told
