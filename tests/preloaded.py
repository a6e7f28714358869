"""What the process that the suite's runs are forked from has ready: the program whole, with the libraries that it
imports and the patterns that it compiles only where they are needed. Garbage is not looked for in it again: that would copy its pages into each run."""

from __future__ import annotations

import gc
import importlib
import pkgutil

import plainfall
from plainfall.diagnosis import reading

for _module in pkgutil.walk_packages(plainfall.__path__, "plainfall."):
    if not _module.name.endswith("__main__"):
        importlib.import_module(_module.name)
for _name in (
    "concurrent.futures.process concurrent.futures.thread ctypes encodings.cp437 encodings.idna encodings.utf_8_sig "
    "importlib.readers importlib.resources markdown_it multiprocessing.popen_fork multiprocessing.queues "
    "multiprocessing.synchronize packaging.pylock pathspec pyproject_hooks resolvelib yaml selectolax.lexbor "
    "rich.console tomlkit tree_sitter tree_sitter_javascript urllib3"
).split():
    try:
        importlib.import_module(_name)
    except ImportError as _error:
        raise RuntimeError(
            f"{_name} is not here"
        ) from _error  # an ImportError would be passed over without a word
reading.diagnose("a line that no rule recognises")  # the rules' patterns are compiled by that
gc.collect()
gc.freeze()
