"""Addresses of engines as a person types them: a web address without anything that could hide a key or another host."""

from __future__ import annotations

import re
from urllib.parse import urlsplit

from zinc_kettle.core.text import is_hidden

LONGEST = 2_000
LONGEST_HOST = 255
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*\Z")
_HOST = re.compile(r"[^\s-]\S*\Z")
_PLAIN_HOST = re.compile(r"[0-9A-Za-z.:-]+\Z")


def variable_problem(name: str) -> str:
    """What is wrong with the name of an environment variable; empty where nothing is."""
    return "" if _VARIABLE.match(name) else "it is no name of a variable: letters, digits and _, as in OFFICE_KEY"


def host_problem(host: str) -> str:
    """What is wrong with a host as ssh knows it; empty where nothing is."""
    return "" if len(host) <= LONGEST_HOST and _HOST.match(host) else "it is no host as ssh knows it"


def listening_problem(host: str) -> str:
    """What is wrong with an address that an engine listens on; empty where nothing is."""
    fine = len(host) <= LONGEST_HOST and _PLAIN_HOST.match(host)
    return "" if fine else "it is no address of a machine: letters, digits, dots, colons and hyphens"


def address_problem(address: str) -> str:
    """What is wrong with an address, as a clause; empty where nothing is.

    Args:
        address: Such as `http://127.0.0.1:8080` or `https://host/v1`.
    """
    if len(address) > LONGEST or any(char.isspace() or is_hidden(char) for char in address):
        return f"an address has no spaces and no hidden characters, and at most {LONGEST:,} others"
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError:
        return "its port or its host cannot be read; a port is a number from 1 to 65,535"
    if parts.scheme not in {"http", "https"} or not parts.hostname:
        return "it should begin with http:// or https:// and name a host"
    if not (address.isascii() and parts.netloc.isascii()):
        return "its host should be plain ASCII; write a name of another script in its xn-- form"
    if port == 0:
        return "port 0 is no port; a port is a number from 1 to 65,535"
    if "@" in address:
        return "it holds a name or a password; give the key with key_variable or key_file"
    if "?" in address or "#" in address:
        return "it holds a query; give the key with key_variable or key_file"
    return ""
