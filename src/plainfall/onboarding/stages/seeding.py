"""Seeds, and the account that they make."""

from __future__ import annotations

from msgspec.structs import replace

from plainfall.onboarding.part.steps import State, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages import filling_data

__all__ = ["seeds"]


def seeds(work: Work) -> StepResult:
    """Runs the seed command once for a database. An account whose name and password stand in the seeds is kept
    for the probe, unless one is known already. Raises CommandFailed."""
    result = filling_data.seeds(work)
    account = next((one.seeded for one in work.part.frameworks if one.seeded is not None), None)
    known = work.state.accounts()
    key = work.part.key or "."
    if account is None or result.state is not State.DONE or key in known:
        return result
    work.state.keep_accounts(
        {**known, key: {"name": account.name, "password": account.password, "page": account.page}}
    )
    words = f"the seeds make an account, {account.name!r}; its password stands in {account.evidence}"
    return replace(result, remarks=(*result.remarks, f"{words}; plainfall probe --sign-in signs in with it"))
