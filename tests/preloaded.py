"""What the process that the suite's runs are forked from has imported: the program whole, with the libraries that it
imports only where they are needed. Garbage is not looked for in it again: that would copy its pages into each run."""

from __future__ import annotations

import gc
import importlib
import pkgutil

import plainfall

for _module in pkgutil.walk_packages(plainfall.__path__, "plainfall."):
    if not _module.name.endswith("__main__"):
        importlib.import_module(_module.name)
for _name in (
    "concurrent.futures.process concurrent.futures.thread ctypes encodings.cp437 encodings.idna encodings.utf_8_sig "
    "importlib.resources markdown_it multiprocessing.popen_fork multiprocessing.queues multiprocessing.synchronize "
    "packaging.pylock resolvelib rich.console ruamel.yaml selectolax.lexbor tomlkit urllib3"
).split():
    importlib.import_module(_name)
gc.collect()
gc.freeze()
