"""What a kind of service is: all that its definitions and its clients' settings are known by."""

from __future__ import annotations

import importlib
import pkgutil
import re
from collections.abc import Mapping
from functools import cache

from msgspec import Struct, field

from plainfall.services import kinds as _folder

__all__ = ["ServiceKind", "kind_named", "kinds"]


class ServiceKind(Struct, frozen=True):
    """``title`` is its name for people; ``image`` finds the kind in an image's name; ``port`` is what it listens
    on by itself. ``variables`` are those of its images, by what they set ("user", "password", "name");
    ``root_variables`` hold the password of its user ``root``. ``default_user`` is who there is where only a
    password is set: the database has that name, too. ``command_password`` finds the password in the image's
    command. ``schemes`` matches the schemes of its addresses, ``new_scheme`` is the one for an address that is
    made; ``adapter`` matches its name in database configuration files. ``drivers`` finds the packages that speak
    to it, in a list of requirements. ``key_words`` are words in settings' keys that are about it, each with its
    place among the kinds that the word may mean (1: first); ``not_keys`` matches keys with such a word that are
    about something else, ``host_keys`` those that hold a server's name though they are called an address.
    ``by_keys_alone`` tells that its keys mean it whatever the port, but for settings ``unused`` ("KEY=value") by
    which nothing is sent to it. ``host`` is the name of this machine by which its drivers come over a port.
    ``has_accounts`` tells that an address names a user and a database. ``fetched`` says how much is fetched where
    registries publish its server."""

    name: str
    title: str
    image: str
    port: int
    schemes: str
    new_scheme: str
    key_words: Mapping[str, int]
    variables: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    root_variables: tuple[str, ...] = ()
    default_user: str = ""
    command_password: str = ""
    adapter: str = ""
    drivers: str = ""
    not_keys: str = ""
    host_keys: str = ""
    by_keys_alone: bool = False
    unused: str = ""
    host: str = "localhost"
    has_accounts: bool = False
    fetched: str = ""
    precedence: int = 9

    def is_image(self, name: str) -> bool:
        """Whether an image (or a service without one) of that name is of this kind."""
        return re.search(self.image, name, re.IGNORECASE) is not None


@cache
def kinds() -> tuple[ServiceKind, ...]:
    """All kinds; where a name fits several, the first one counts."""
    names = [one.name for one in pkgutil.iter_modules(_folder.__path__)]
    results = [importlib.import_module(f"{_folder.__name__}.{name}").KIND for name in names]
    return tuple(sorted(results, key=lambda one: (one.precedence, one.name)))


def kind_named(name: str) -> ServiceKind:
    """The kind of that name. Raises KeyError."""
    return {one.name: one for one in kinds()}[name]
