"""The last test but one: nothing that any hostile test had outside of its clone was touched by any other, either."""

from __future__ import annotations

import hostile
import pytest


@pytest.mark.hostile
def test_no_canary_of_the_whole_run_was_touched() -> None:
    if len(hostile.OUTSIDE) < 20:
        pytest.skip("only a part of the hostile suite was run")
    assert [str(folder) for folder, before in hostile.OUTSIDE if hostile.laid_out(folder) != before] == []
