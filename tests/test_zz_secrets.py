"""The last test: what the whole suite printed and kept holds no secret."""

from __future__ import annotations

import conftest
import pytest


def test_no_secret_stands_in_any_output_log_journal_or_record() -> None:
    if len(conftest.SECRETS) < 20:
        pytest.skip("only a part of the suite was run: too few secrets were made to say anything")
    assert conftest.SEARCHED[0] > 500
    assert conftest.LEAKS == []
