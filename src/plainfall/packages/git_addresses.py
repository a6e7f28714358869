"""Where addresses of repositories lead. Git follows no redirect for Plainfall: it would follow one to this
machine, too.

A host that has moved a repository answers the first request with the new address; that request is made here,
each step is checked, and git is given the address at its end.
"""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urljoin, urlsplit

from plainfall.packages.logins import host_of, may_lead

__all__ = ["NO_REDIRECTS", "is_redirected", "moved_to"]

NO_REDIRECTS = ("-c", "http.followRedirects=false")
_QUERY = "/info/refs?service=git-upload-pack"  # gitprotocol-http(5), smart clients
_MOVED = (301, 302, 303, 307, 308)
_STEPS = 5
_SECONDS = 20.0


def is_redirected(lines: str) -> bool:
    """Whether git's output says that the address leads elsewhere.

    >>> is_redirected("fatal: unable to access 'http://code.example/kit/': The requested URL returned error: 301")
    True
    """
    return any(f"error: {status}" in lines for status in _MOVED) or "redirect" in lines.lower()


def moved_to(address: str, variables: Mapping[str, str]) -> str:
    """The address to which a repository's address leads; the same where it leads nowhere, or where it must not:
    from elsewhere to this machine, to another kind of transport, or to what is no repository's first answer."""
    import urllib3

    current = address
    client = urllib3.PoolManager(timeout=_SECONDS, retries=False)
    proxy = variables.get("https_proxy") or variables.get("HTTPS_PROXY") or variables.get("http_proxy")
    if proxy:
        client = urllib3.ProxyManager(proxy, timeout=_SECONDS, retries=False)
    try:
        for _ in range(_STEPS):
            if urlsplit(current).scheme not in ("http", "https"):
                return address
            answer = client.request(
                "GET", current.rstrip("/") + _QUERY, redirect=False, preload_content=False
            )
            answer.close()
            if answer.status not in _MOVED:
                return current
            target = urljoin(current.rstrip("/") + _QUERY, answer.headers.get("Location", ""))
            base, found, _ = target.partition("/info/refs")
            downgraded = urlsplit(current).scheme == "https" and urlsplit(base).scheme != "https"
            if not found or downgraded or not may_lead(current, base) or not host_of(base):
                return address
            current = base
    except (urllib3.exceptions.HTTPError, ValueError):
        return address
    finally:
        client.clear()
    return address
