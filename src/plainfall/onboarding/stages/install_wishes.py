"""What is wished for when the packages of a part are installed: by the person now and before, by the team, by what
failures have changed."""

from __future__ import annotations

from msgspec.structs import replace

from plainfall.clone.parts import DependencyFile
from plainfall.ecosystems.shape import InstallJob, InstallWishes
from plainfall.errors import BadInput, ValueNeeded
from plainfall.kept_records import Installed, RegistryHosts
from plainfall.onboarding.part.byproducts import PACKAGES
from plainfall.onboarding.part.work import Work
from plainfall.settings.answers import install_code
from plainfall.settings.setting import Consent, agrees

__all__ = ["forget_installed", "installed_before", "job_for", "may_ask", "wishes_of", "with_packages"]


def wishes_of(work: Work, listed: DependencyFile) -> InstallWishes:
    """What was chosen for the packages, with whose own code the team lets run, and the registries that may have the
    person's variables. Raises ValueNeeded where a part has no list and nobody has said yet that what its sources
    import may be installed."""
    wishes = work.choices.packages
    allowed, seconds = install_code(work.tree)
    allowed -= set(work.tree.folders.get(work.part.path, ()))  # a clone does not allow its own code to itself
    wishes = replace(wishes, allowed=wishes.allowed | allowed, code_seconds=seconds or wishes.code_seconds)
    wishes = replace(wishes, hosts=_allowed_hosts(work, wishes))
    return _from_imports(work, listed, wishes)


def installed_before(work: Work) -> Installed:
    """The record of the part's last installation; one without values where there was none."""
    return work.state.read(work.part.key, Installed)


def forget_installed(work: Work) -> None:
    """Drops what is known of the part's installed packages: they are gone, or in doubt. What was chosen for them
    stays."""
    work.state.keep(work.part.key, installed_before(work).choices())


def with_packages(work: Work) -> DependencyFile:
    """The part's list with the packages that were decided on beyond it."""
    listed = work.part.dependencies
    assert listed is not None  # a part without a list has no such step
    known = {one.text for one in listed.additions}
    more = [one.as_addition() for one in work.choices.added if one.requirement not in known]
    return replace(listed, additions=(*listed.additions, *more))


def job_for(
    work: Work,
    listed: DependencyFile,
    wishes: InstallWishes,
    before: Installed,
    edited: frozenset[str],
) -> InstallJob:
    """What one installation is about; ``edited`` are files that somebody edited through links."""
    return InstallJob(
        work.clone,
        work.folder,
        listed,
        work.chosen(),
        work.surroundings,
        wishes,
        work.state.folder / "locks" / work.state.name_of(work.part.key),
        before.memory,
        work.progress,
        work.access(edited),
        lambda path: work.making(PACKAGES, path),
    )


def _from_imports(work: Work, listed: DependencyFile, wishes: InstallWishes) -> InstallWishes:
    """The wishes with the person's leave to install what the sources import. Raises ValueNeeded where a part has no
    list and nobody has given it yet."""
    if not listed.is_from_imports or wishes.from_imports:
        return wishes
    if all(one.is_well_known for one in listed.unlisted):
        return replace(wishes, from_imports=True)
    names = ", ".join(one.text for one in listed.unlisted)
    places = tuple(f"{one.text}: {one.needed_by.path}:{one.needed_by.line}" for one in listed.unlisted[:8])
    why = (
        f"No list names them; the sources import them ({'; '.join(places)}). Look at the names: anybody may have "
        "published a package of a name."
    )
    if agrees(work.ask, Consent(f"May the packages {names} be installed?", why)):
        return replace(wishes, from_imports=True)
    raise ValueNeeded(
        f"the sources import packages that no list names: {names}",
        place=listed.evidence,
        lines=places,
        remedy="--from-imports installs the packages of these names from your registry. Look at the names first: "
        "anybody may have published a package of a name. Or list them in a requirements.txt.",
    )


def may_ask(work: Work) -> bool:
    """Whether installing the part's packages may ask the person something: then it is done on the main thread,
    under the part's heading."""
    listed = work.part.dependencies
    if work.ask is None or listed is None:
        return False
    near = {*work.tree.folders.get(work.part.path, ()), *work.tree.folders.get("", ())}
    if listed.is_from_imports or not near.isdisjoint(work.language.registry_files):
        return True
    try:
        return any("${" in work.tree.text(path) for path in listed.files if path in work.tree)
    except BadInput:
        return False  # said where the list is read


def _allowed_hosts(work: Work, wishes: InstallWishes) -> frozenset[str]:
    """The registries for which the clone's own configuration may have the person's variables: those that the
    person allowed for this clone, now or before. On a terminal they are asked, once for each."""
    known = work.state.read("", RegistryHosts)
    allowed = frozenset(known.allowed) | wishes.hosts
    refused = frozenset(known.refused) - wishes.hosts
    listed = work.part.dependencies
    if work.ask is not None and listed is not None:
        job = job_for(work, listed, replace(wishes, hosts=allowed), Installed(), frozenset())
        for one in work.installing.withheld(job):
            if one.host in allowed | refused:
                continue
            names = ", ".join(one.names) or "a login"
            why = f"{one.evidence} wants to send {names} there. The answer is kept for this clone."
            if agrees(work.ask, Consent(f"May the registry {one.host} have your login?", why)):
                allowed |= {one.host}
            else:
                refused |= {one.host}
    record = RegistryHosts(allowed=tuple(sorted(allowed)), refused=tuple(sorted(refused)))
    if (allowed or refused) and record != known and not work.preview:
        work.state.keep("", record)
    return allowed
