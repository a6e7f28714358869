"""Accounts of a clone's servers: made by their own forms, confirmed by letter, signed in with; kept in the clone's
state folder before they are made, since a password that nobody knows would be worse than none."""

from __future__ import annotations

import secrets
import time
from collections.abc import Mapping, Sequence

from plainfall.clone.frameworks import ADMIN_ADDRESS
from plainfall.data.letters import letters_in
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.services.service_records import mail_folders
from plainfall.server.confirming import confirm, confirming_link
from plainfall.server.setting_up import Installed, fill_installer
from plainfall.server.signing import Account, SignedIn, register, sign_in
from plainfall.server.visitor import Visitor

__all__ = ["Accounts"]

_LETTER = 6.0  # seconds in which a letter of confirmation comes


class Accounts:
    """The accounts at one server; ``notes`` collects what is to be said besides."""

    def __init__(
        self, state: CloneState, part: str, base: str, pages: Sequence[str], notes: list[str]
    ) -> None:
        self._state = state
        self._part = part or "."
        self._base = base
        self._pages = tuple(pages)
        self._notes = notes

    def register(self) -> list[SignedIn]:
        """An ordinary account, stored next to the administrator's; one that was made before is not made again."""
        key = f"{self._part} member"
        known = self._state.accounts()
        if key in known:
            self._notes.append("an ordinary account was made before")
            return []
        name = f"volunteer{secrets.randbelow(9000) + 1000}"
        account = Account(name, f"{name}@rain.example", f"Rain-{secrets.token_urlsafe(9)}")
        self._state.keep_accounts({**known, key: _row(account)})
        began = time.time()
        result = register(Visitor(), self._base, account)
        if result.state != "in":
            self._state.keep_accounts(known)
            return [result]
        return [result, *self._confirmed(account, began)]

    def _confirmed(self, account: Account, began: float) -> list[SignedIn]:
        """The confirmation that came by mail to the stand-in: its link is followed, and the account signs in."""
        folders = mail_folders(self._state)
        if not folders:
            return []
        until = time.monotonic() + _LETTER
        letter = None
        while letter is None and time.monotonic() < until:
            letter = next(
                (
                    one
                    for one in letters_in(folders, 20)
                    if account.email in one.readers and one.when.timestamp() >= began - 1
                ),
                None,
            )
            time.sleep(0.1 if letter is None else 0)
        if letter is None:
            self._notes.append(f"no letter came for the account within {_LETTER:.0f} s")
            return []
        link = confirming_link(self._base, letter.links)
        if not link:
            self._notes.append(f"a letter came, {letter.subject!r}, with no link that confirms")
            return []
        status, landed = confirm(Visitor(), link)
        self._notes.append(
            f"a letter came, {letter.subject!r}; its link was followed: {status or 'no answer'} at {landed}"
        )
        return [sign_in(Visitor(), self._base, account, self._pages)] if 0 < status < 400 else []

    def sign_in(self, linked: Sequence[str]) -> list[SignedIn]:
        """With the ordinary account, if there is one; and with the administrator's. ``linked`` are paths to compare
        besides."""
        known = self._state.accounts()
        rows = [known[key] for key in (f"{self._part} member", self._part) if key in known]
        if not rows:
            self._notes.append("no account is known: --register makes one where there is a form for it")
        pages = tuple(dict.fromkeys([*self._pages, *linked]))
        accounts = [
            Account(row["name"], row.get("email") or row["name"], row["password"], row.get("page", ""))
            for row in rows
        ]
        return [sign_in(Visitor(), self._base, account, pages) for account in accounts]

    def fill_installer(self, title: str, given: Mapping[str, str]) -> Installed:
        """Fills the program's own installer; the account that it asks for is kept as the administrator's."""
        known = self._state.accounts()
        account = Account("admin", ADMIN_ADDRESS, f"Rain-{secrets.token_urlsafe(12)}")
        self._state.keep_accounts({**known, self._part: _row(account)})
        result = fill_installer(Visitor(60.0), self._base, account, title, given)
        if result.state == "done":
            self._state.keep_accounts({**known, self._part: {**_row(account), "page": result.sign_in}})
        elif not result.forms:
            self._state.keep_accounts(known)  # nothing was sent: no such account can be there
        return result


def _row(account: Account) -> dict[str, str]:
    return {"name": account.name, "email": account.email, "password": account.password, "page": account.page}
