"""A step on the databases of a clone's private servers either happens or leaves them as they were, as far as the
server can copy a database at once (PostgreSQL; of others no copy is made).

Before the step each database is copied within its server; a record says which step is under way. If the step
fails, or a later run finds the record, the copy takes the database's place. A database that somebody is connected
to, or that is large, is not copied, and that is said."""

from __future__ import annotations

from msgspec.structs import replace

from plainfall.errors import ServiceFailed
from plainfall.kept_records import ServerCopies
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.services.private_servers import place_of
from plainfall.services.engine import engine_of
from plainfall.writing import digest_of

__all__ = ["ServerGuard", "checked"]


class ServerGuard:
    """Guards the databases that one part's services hold for it."""

    def __init__(self, work: Work) -> None:
        self._work = work

    def begin(self, step: str, mark: str) -> list[str]:
        """Copies what can be copied, and notes that the step starts; returns remarks. ``mark`` is what the step's
        processes bear. Raises ServiceFailed."""
        rows, remarks = [], []
        for name, database in self._work.server_databases:
            copy = f"{database[:40]}_before_{digest_of(name, database)[:8]}"
            # On disk before the copy is made: one that a kill left behind is known.
            rows.append((name, database, copy))
            self._keep(ServerCopies(step=step, mark=mark, rows=tuple(rows)))
            why = self._do(name, "keep_copy", database, copy)
            if why:
                rows.pop()
                remarks.append(f"no copy of the database {database} was made before: {why}")
        if rows:
            self._keep(ServerCopies(step=step, mark=mark, rows=tuple(rows)))
        else:
            self._forget()
        return remarks

    def end(self) -> None:
        """The step is done: the copies go, then the record."""
        for name, _, copy in self._record().rows:
            self._do(name, "drop_copy", copy)
        self._forget()

    def put_back(self) -> str:
        """Undoes the step of the record, whose processes must have ended; returns that in words, "" for nothing."""
        record = self._record()
        names, left, words = [], [], ""
        for name, database, copy in record.rows:
            why = self._do(name, "put_copy_back", database, copy)
            if not why:
                names.append(str(database))
                continue
            left.append((name, database, copy))
            words += (
                f" The database {database} could not be put back as it was: {why}. Its copy {copy} stays."
            )
        if left:  # the next run tries again, and nobody takes what is there for good
            self._keep(replace(record, rows=tuple(left)))
        else:
            self._forget()
        if names:
            words = f" The database {' and '.join(names)} was put back as it was before this step.{words}"
        return words

    def under_way(self) -> tuple[str, str]:
        """The mark and the name of the step that was begun and not ended; "" for none."""
        record = self._record()
        return record.mark, record.step

    def _record(self) -> ServerCopies:
        return self._work.state.read(self._work.part.key, ServerCopies)

    def _keep(self, record: ServerCopies) -> None:
        self._work.state.keep(self._work.part.key, record)

    def _forget(self) -> None:
        self._work.state.forget(self._work.part.key, ServerCopies)

    def _do(self, name: str, what: str, *words: str) -> str:
        """Has the server do it; why it did not, in words, "" if it did."""
        row = self._work.state.services.get(name)
        engine = engine_of(row.kind) if row is not None else None
        if row is None or engine is None:
            return "its server is not known any more"
        place = place_of(self._work.state, self._work.surroundings, name, row)
        why: str = getattr(engine, what)(place, row.port, *words)
        return why


def checked(work: Work) -> str:
    """What was undone of a step that a run before did not see to its end, in words; "" for nothing."""
    guard = ServerGuard(work)
    mark, step = guard.under_way()
    if not mark:
        return ""
    try:
        if work.state.step_of(work.part.key, mark) is not None:
            guard.end()
            return ""
        words = guard.put_back()
    except ServiceFailed as error:
        return f"what {step} of a run before left in the database could not be undone: {error.cause}"
    return f"{step} were cut off in a run before.{words}" if words else ""
