"""An older release of the one package that no longer has what the code imports from it."""

from __future__ import annotations

from collections.abc import Iterator

from packaging.utils import canonicalize_name
from packaging.version import InvalidVersion, Version

from plainfall.ecosystems.python.recognise.imports import package_of
from plainfall.ecosystems.shape.remedies import LanguageChange, Trouble
from plainfall.failure_facts import ModuleMissing, NameMissing, ObjectLacks
from plainfall.failure_kinds import FailureKind

KINDS = frozenset(
    {
        FailureKind.NAME_MISSING,
        FailureKind.ATTRIBUTE_MISSING,
        FailureKind.OBJECT_LACKS,  # a class is often called as its package is (Flask, Quart, Celery)
        FailureKind.MODULE_MISSING,
    }
)
_MOST = 3  # older release lines that are proposed


def propose(trouble: Trouble) -> Iterator[LanguageChange]:
    """The newest below the installed one's first number, then below its second; further back from there where that
    was tried before."""
    match trouble.facts:
        case NameMissing(name=name, module=module) if module:
            lacks = f"{module}.{name}"
        case ObjectLacks(name=name, class_name=module) if module:
            lacks = name
        case ModuleMissing(module=module) if module:
            lacks = module
        case _:
            return
    package = trouble.holder if trouble.holder in trouble.installed else _holder(trouble, module)
    if not package:
        return
    for bound in _bounds(trouble.installed[package])[:_MOST]:
        yield LanguageChange(
            f"{package} {trouble.installed[package]} has no {lacks}: a release below {bound} was taken: {{result}}",
            (f"{package}<{bound}",),
        )


def _holder(trouble: Trouble, module: str) -> str:
    """The installed package that a module is of, "" for none."""
    top = module.partition(".")[0]
    names = {package_of(top), canonicalize_name(top)}
    return next((one for one in trouble.installed if canonicalize_name(one) in names), "")


def _bounds(text: str) -> list[str]:
    """Versions below which an older release line begins, the nearest first.

    >>> _bounds("3.1.2"), _bounds("0.28.1"), _bounds("82.0.0")
    (['3', '2', '3.1'], ['0.28', '0.27', '0.26'], ['82', '81', '80'])
    """
    try:
        version = Version(text)
    except InvalidVersion:
        return []
    major, minor = version.major, version.minor
    if major == 0:
        return [f"0.{number}" for number in range(minor, max(minor - _MOST, 0), -1)]
    older = [str(number) for number in range(major, max(major - _MOST, 0), -1)]
    return [*older[:2], f"{major}.{minor}"] if minor else older
