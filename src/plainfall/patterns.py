"""Regular expressions that are compiled when they are first used: a run uses a part of all that its modules hold,
and compiling the rest took a quarter of the time of a short command."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

__all__ = ["Later", "regex"]

_USED = ("search", "match", "fullmatch", "finditer", "findall", "sub", "subn", "split")


class Later:
    """Stands for a compiled expression, and takes over what it offers at the first use."""

    def __init__(self, source: str | bytes, flags: int) -> None:
        self._source, self._flags = source, flags

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)
        compiled = self.compiled()
        for word in _USED:
            self.__dict__[word] = getattr(compiled, word)
        return getattr(compiled, name)

    def compiled(self) -> re.Pattern[Any]:
        """The expression itself."""
        return re.compile(self._source, self._flags)

    def __reduce__(self) -> tuple[Any, ...]:
        return Later, (self._source, self._flags)


if TYPE_CHECKING:
    regex = re.compile
else:

    def regex(source: str | bytes, flags: int = 0) -> Later:
        """What ``re.compile`` returns, as far as its methods are used; an error in the expression shows at the
        first use."""
        return Later(source, flags)
