"""The examples in docstrings are true."""

from __future__ import annotations

import doctest
import importlib
import pkgutil
from collections.abc import Iterator
from pathlib import Path

import pytest

import plainfall


def modules() -> Iterator[str]:
    """Every module of the package that has an example, but for those that are programs of their own."""
    for one in pkgutil.walk_packages(plainfall.__path__, "plainfall."):
        if ".standins." in one.name or one.name.endswith("__main__"):
            continue
        spec = importlib.util.find_spec(one.name)
        if spec is not None and spec.origin and ">>> " in Path(spec.origin).read_text("utf-8"):
            yield one.name


@pytest.mark.parametrize("name", sorted(modules()))
def test_examples(name: str) -> None:
    result = doctest.testmod(importlib.import_module(name))
    assert result.attempted and not result.failed
