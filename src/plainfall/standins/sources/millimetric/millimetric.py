"""Rain amounts as people write them."""

from pluvial.units import TRACE

__version__ = "1.0.3"


def amount(millimetres):
    if millimetres == 0:
        return "dry"
    if millimetres < TRACE:
        return "trace"
    return "%.1f mm" % millimetres
