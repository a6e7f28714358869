"""Looking at the dev servers of a clone that run: pages, what is logged for them, the interface, signing in,
the reaction to an edit, a picture."""

from __future__ import annotations

import re
import shutil
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.ecosystems.frameworks import reload_channels
from plainfall.errors import NothingToOnboard, ServerFailed, UsageProblem
from plainfall.evidence import Evidence
from plainfall.kept_records import ServerKept
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import CloneFolder
from plainfall.onboarding.stages.probe import best_page
from plainfall.onboarding.stages.starting import running_of
from plainfall.onboarding.uses.inside import work_inside
from plainfall.onboarding.uses.probe.accounts import Accounts
from plainfall.onboarding.uses.probe.routes import listed_routes
from plainfall.reading import without_colours
from plainfall.server.browser import BrowserLook, browser_here, look_in_browser
from plainfall.server.channels import find_channel, open_channel
from plainfall.server.endpoints import Endpoint, ask_endpoints
from plainfall.server.page import ENDS
from plainfall.server.picture import take_picture
from plainfall.server.probe import Probe, probe_page
from plainfall.server.process import belonging
from plainfall.server.reload_channel import Channel
from plainfall.server.reloading import Reloaded, read_anew, touch_and_watch
from plainfall.server.setting_up import Installed
from plainfall.server.signing import SignedIn
from plainfall.server.visitor import Visitor
from plainfall.surroundings import Surroundings

__all__ = ["PageReport", "ProbeWishes", "ServerLook", "is_broken", "probe_servers"]

_FOLLOWED = 30  # links of a page that are followed
_REFUSED = (401, 403, 405)  # statuses of a page that is only not meant for a guest
_LOGGED = 0.06  # seconds in which a server writes its line after the answer is sent


class ProbeWishes(Struct, frozen=True):
    """What to probe besides the page: paths to ask for (instead of it), the status and the words that are expected
    there, whether to sign in, to register, to touch a source file (``reload``: its path, "" for one that is
    chosen), the file that a picture is written to, whether to follow the first page's links, and which browser to
    open the page in ("" for one that is here, "none" for none); ``set_up`` are values, by the names of fields, with
    which the program's own installer is filled (None: it is not)."""

    part: str | None = None
    paths: tuple[str, ...] = ()
    status: int | None = None
    words: str | None = None
    sign_in: bool = False
    register: bool = False
    reload: str | None = None
    picture: Path | None = None
    follow: bool = False
    browser: str = ""
    set_up: Mapping[str, str] | None = None


class PageReport(Struct, frozen=True):
    """One page, and what the server logged for it."""

    probe: Probe
    logged: tuple[str, ...] = ()


class ServerLook(Struct):
    """A recorded server now: ``pages`` is empty if its processes are gone. The rest as it was asked for;
    ``notes`` say what could not be looked at."""

    part: str
    url: str
    command: str
    pid: int
    log: str
    pages: list[PageReport] = field(default_factory=list)
    followed: list[Probe] = field(default_factory=list)
    endpoints: list[Endpoint] = field(default_factory=list)
    channel: tuple[Channel, bool] | None = None
    signed: list[SignedIn] = field(default_factory=list)
    reloaded: Reloaded | None = None
    picture: str = ""
    browser: BrowserLook | None = None
    installed: Installed | None = None
    notes: list[str] = field(default_factory=list)

    @property
    def running(self) -> bool:
        """Whether it was running and could be asked."""
        return bool(self.pages)

    @property
    def well(self) -> bool:
        """Whether all that was asked for is as it should be."""
        good = self.running and not any(one.probe.problem for one in self.pages)
        return (
            good
            and not any(is_broken(one) for one in self.followed)
            and all(one.state == "in" for one in self.signed)
            and (self.installed is None or self.installed.state == "done")
            and (self.reloaded is None or self.reloaded.noticed is not None)
            and (self.browser is None or not self.browser.problem)
        )

    def as_json(self) -> dict[str, Any]:
        """The form that ``probe --json`` shows."""
        return {
            "part": self.part,
            "url": self.url,
            "command": self.command,
            "pid": self.pid,
            "log": self.log,
            "running": self.running,
            "probe": self.pages[0].probe.as_json() if self.pages else None,
            "pages": [{**one.probe.as_json(), "logged": list(one.logged)} for one in self.pages],
            "followed": [one.as_json() for one in self.followed],
            "endpoints": [one.as_json() for one in self.endpoints],
            "reload_channel": {
                "path": self.channel[0].path,
                "of": self.channel[0].title,
                "answered": self.channel[1],
            }
            if self.channel
            else None,
            "signed_in": [one.as_json() for one in self.signed],
            "reload": self.reloaded.as_json() if self.reloaded else None,
            "picture": self.picture or None,
            "browser": self.browser.as_json() if self.browser else None,
            "installer": self.installed.as_json() if self.installed else None,
            "notes": self.notes,
        }


def is_broken(probe: Probe) -> bool:
    """Whether a page that was followed is not as it should be; one that a guest may not see is none."""
    return bool(probe.problem) and probe.status not in _REFUSED


def probe_servers(place: CloneFolder, surroundings: Surroundings, wishes: ProbeWishes) -> list[ServerLook]:
    """Looks at every recorded server, or one part's. Nothing in the clone changes but a file's time, and the
    accounts that were made (kept in the state folder).

    Raises NothingToOnboard if the folder does not exist, UsageProblem for a part or file that does not exist.
    """
    clone = place.clone
    if not clone.is_dir():
        raise NothingToOnboard(f"{clone} is not a folder", remedy="Name the folder of a clone.")
    state = CloneState(clone, surroundings.state)
    chosen = None if wishes.part is None else "" if wishes.part == "." else wishes.part.strip("/")
    state.register.cut_logs()
    looks = []
    for part, record in state.servers.items():
        if part != chosen if chosen is not None else not place.holds(part):
            continue
        look = ServerLook(part, record.url, record.command, record.pid, record.log)
        if record.url and belonging(running_of(record)):
            _Looking(state, part, record, surroundings, wishes, look).look()
        looks.append(look)
    if chosen is not None and not looks:
        names = ", ".join(part or "." for part in state.servers) or "none"
        raise UsageProblem(f"no server of the part {wishes.part} was started", remedy=f"There are: {names}")
    return looks


class _Looking:
    """Probes one server as the options ask."""

    def __init__(
        self,
        state: CloneState,
        part: str,
        record: ServerKept,
        surroundings: Surroundings,
        wishes: ProbeWishes,
        look: ServerLook,
    ) -> None:
        self._state = state
        self._clone = clone = state.clone
        self._part = part
        self._record = record
        self._surroundings = surroundings
        self._wishes = wishes
        self._look = look
        self._base = record.url
        self._visitor = Visitor()
        self._work: Work = work_inside(CloneFolder(clone), part or ".", surroundings)

    def look(self) -> None:
        """Carries out all probes, in an order in which each helps the next."""
        wishes = self._wishes
        for path in wishes.paths or (self._usual_page(),):
            self._look.pages.append(self._page(path))
        first = self._look.pages[0].probe
        if "html" in first.media_type and first.status < 400:
            self._in_browser(first.url)
        if wishes.follow:
            self._follow(first)
        self._channel(first)
        if not wishes.paths:
            routes = [path for path in self._work.part.pages if path != "/"]
            routes += listed_routes(self._work)
            self._look.endpoints = ask_endpoints(self._base, routes, self._visitor)
        accounts = Accounts(self._state, self._part, self._base, self._work.part.pages, self._look.notes)
        if wishes.set_up is not None:
            title = self._clone.name.replace("-", " ").replace("_", " ")
            self._look.installed = accounts.fill_installer(title, wishes.set_up)
            if self._look.installed.state == "done":
                self._record = replace(self._record, probe=best_page(self._base, ("/",))[0].as_json())
                self._state.keep_server(self._part, self._record)
        if wishes.register:
            self._look.signed += accounts.register()
        if wishes.sign_in:
            linked = ["/" + one.url.split("/", 3)[3] for one in self._look.followed]
            self._look.signed += accounts.sign_in(linked)
        if wishes.picture is not None:
            self._picture(first.url, wishes.picture)
        if wishes.reload is not None:
            self._reload(wishes.reload)

    def _in_browser(self, url: str) -> None:
        """The first page in a browser, whose scripts run there."""
        named = self._wishes.browser
        if named == "none":
            return
        path = self._surroundings.variables.get("PATH", "")
        browser = shutil.which(named, path=path) if named else browser_here(path)
        if browser is None and named:
            raise UsageProblem(
                f"{named} is no program here", remedy="Name a browser of Chromium's kind, or none."
            )
        if browser is None:
            self._look.notes.append(
                "no browser is here (Chromium or one of its kin): what the page's scripts do was not seen"
            )
            return
        try:
            self._look.browser = look_in_browser(browser, url, self._surroundings.for_project())
        except ServerFailed as error:
            if named:
                raise
            self._look.notes.append(f"what the page's scripts do was not seen: {error.cause}")

    def _follow(self, first: Probe) -> None:
        """The pages of the same origin that the first one links to, as a guest; links that end something are left
        alone."""
        links = [one for one in first.links if one != first.url]
        safe = [one for one in links if not ENDS.search(one)]
        self._look.followed = [probe_page(one, visitor=self._visitor) for one in safe[:_FOLLOWED]]
        if not links:
            self._look.notes.append(f"{first.url} links to no other page of its own")
        if len(links) > len(safe):
            self._look.notes.append(f"links that end something were left alone: {len(links) - len(safe)}")
        if len(safe) > _FOLLOWED:
            self._look.notes.append(f"{len(safe) - _FOLLOWED} further links were not followed")

    def _usual_page(self) -> str:
        """The page that answered well when the server was started."""
        url = str((self._record.probe or {}).get("url") or self._base)
        return "/" + url.split("/", 3)[3] if url.count("/") > 2 else "/"

    def _page(self, path: str) -> PageReport:
        log = Path(self._record.log)
        size = log.stat().st_size if log.exists() else 0
        wishes = self._wishes
        if wishes.paths or wishes.status is not None or wishes.words is not None:
            url = self._base.rstrip("/") + (path if path.startswith("/") else f"/{path}")
            probe = probe_page(url, visitor=self._visitor, status=wishes.status, words=wishes.words)
        else:
            probe, _ = best_page(self._base, (path,))
        time.sleep(_LOGGED)
        logged: list[str] = []
        if log.exists() and log.stat().st_size > size:
            with open(log, "rb") as file:
                file.seek(size)
                text = self._work.masked(file.read(20_000).decode("utf-8", "replace"))
            logged = [line.rstrip() for line in without_colours(text).splitlines() if line.strip()]
        return PageReport(probe, tuple(logged[:12]))

    def _channel(self, probe: Probe) -> None:
        assets = tuple(url for url, _, _ in probe.assets)
        channel = find_channel(self._base, probe.text, assets, self._visitor, reload_channels())
        if channel is not None:
            listening = open_channel(self._base, channel)
            self._look.channel = channel, listening is not None
            if listening is not None:
                listening.close()

    def _picture(self, url: str, file: Path) -> None:
        browser = browser_here(self._surroundings.variables.get("PATH", ""))
        if browser is None:
            self._look.notes.append("no browser that can take a picture is here (Chromium or one of its kin)")
            return
        target = file.with_stem(f"{file.stem}-{self._name()}") if self._part else file
        size = take_picture(browser, url, target, self._surroundings.for_project())
        self._look.picture = str(target)
        self._look.notes.append(f"picture in {target}, {size:,} bytes")

    def _name(self) -> str:
        return self._part.replace("/", "-").strip("()")

    def _reload(self, named: str) -> None:
        file = self._source(named)
        if file is None:
            self._look.notes.append("no source file of this part was found that could be touched")
            return
        channel = self._look.channel[0] if self._look.channel and self._look.channel[1] else None
        if self._work.language.reads_each_time and channel is None:
            self._look.reloaded = read_anew(self._base, file)
            return
        file = self._state.confined.target(file)  # its time is set: not that of something outside
        self._look.reloaded = touch_and_watch(running_of(self._record), self._base, file, channel)

    def _source(self, named: str) -> Path | None:
        """The file that was named, else one that the server is likely to have loaded."""
        if named:
            file = self._work.folder / named
            if not file.is_file():
                raise UsageProblem(
                    f"{file} does not exist", remedy="Name a source file of the part after --reload."
                )
            return file
        part = self._work.part
        endings = self._work.language.endings
        # Files and modules that the start command names, then where a framework's application is made.
        words = re.split(r"[\s:=]+", self._record.command)
        named_files = [word for word in words if word.endswith(endings)]
        named_files += [
            f"{word.replace('.', '/')}{ending}"
            for word in words
            if re.fullmatch(r"\w+(\.\w+)*", word)
            for ending in endings
        ]
        candidates = [self._work.folder / one for one in named_files]
        places: Sequence[Evidence] = [one.evidence for one in part.frameworks]
        candidates += [self._clone / one.path for one in places if one.path.endswith(endings)]
        inner = sorted(path for path in self._work.tree.below(part.path) if path.endswith(endings))
        ranked = sorted(inner, key=lambda path: ("test" in path, "config" in path, path.count("/"), path))
        candidates += [self._work.folder / path for path in ranked]
        return next((path for path in candidates if path.is_file()), None)
