"""Page templates: ``{name}`` puts a value in, ``{% each ROWS %}…{% end %}`` repeats for each row."""

import html
import re

__version__ = "0.9.2"

_EACH = re.compile(r"\{% each (\w+) %\}(.*?)\{% end %\}", re.DOTALL)
_VALUE = re.compile(r"\{(\w+)\}")


def render(template, values):
    def repeat(found):
        return "".join(_fill(found.group(2), {**values, **row}) for row in values[found.group(1)])

    return _fill(_EACH.sub(repeat, template), values)


def _fill(text, values):
    return _VALUE.sub(lambda found: html.escape(str(values.get(found.group(1), ""))), text)
