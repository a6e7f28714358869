"""Units of rain."""

TRACE = 0.1  # millimetres; less than this cannot be read from a gauge
INCH = 25.4


def inches(millimetres):
    return millimetres / INCH
