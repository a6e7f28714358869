"""Whether a Node part serves pages that call another part's interface."""

from __future__ import annotations

from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import listed_names
from plainfall.errors import BadInput
from plainfall.patterns import regex

__all__ = ["is_client"]

_CLIENT_FOLDER = regex(r"^(client|web|webapp|frontend|front|ui|dashboard|spa|site)$")
_CLIENT_PACKAGES = frozenset(
    "vite react-scripts @angular/core @vue/cli-service parcel svelte vue react webpack-dev-server".split()
)
_SERVER_PACKAGES = frozenset(
    "express fastify koa @nestjs/core @hapi/hapi hapi restify polka hono @adonisjs/core @strapi/strapi "
    "next nuxt @feathersjs/feathers sails apollo-server @apollo/server".split()
)


def is_client(tree: Tree, folder: str) -> bool:
    """By what it is made with, or by its folder's name; never a part with a server framework."""
    try:
        names = set(listed_names(tree, folder))
    except BadInput:
        names = set()  # a damaged manifest is reported by the step that installs from it
    told = _CLIENT_FOLDER.search(folder.rpartition("/")[2]) is not None
    return (bool(names & _CLIENT_PACKAGES) or told) and not names & _SERVER_PACKAGES
