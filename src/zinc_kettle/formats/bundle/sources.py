"""Study files as they are passed on: no address, no key, no folder; prompts under the names a bundle gives them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from zinc_kettle.core.factors import Level

NO_ADDRESS = "http://address-left-out.invalid"
"""In place of an address; a person who repeats the study types their own. The ending is kept free for such uses
(RFC 2606)."""
KEYS = ("key_variable", "key_file", "ca_file")


def passed_on(
    source: str, *, texts: Callable[[str], str], level: Callable[[Level], Level], files: Sequence[str] = ()
) -> str:
    """A study file for somebody else.

    Args:
        source: The text of the file.
        texts: What is done to its texts, comments included.
        level: What is done to levels.
        files: The files its prompts are in now; those it names where there are none.

    Returns:
        The text; empty where it cannot be read, or would not be readable afterwards.
    """
    try:
        document = tomlkit.parse(source)
        for section in ("vary", "hold"):
            table: Any = document.get(section, {})
            for name in list(table):
                old = table[name]
                new = [level(part) for part in old] if isinstance(old, list) else level(old)
                if new != old:
                    table[name] = new
        _without_address(document)
        _renamed(document, files)
        text = texts(tomlkit.dumps(document))
        tomlkit.parse(text)
    except (TOMLKitError, ValueError, TypeError, AttributeError, KeyError, RecursionError):
        return ""
    return text.replace("http://[address]", NO_ADDRESS)


def _without_address(document: Any) -> None:
    endpoint = document.get("endpoint")
    if endpoint is not None:
        endpoint["url"] = NO_ADDRESS
        for name in KEYS:
            if name in endpoint:
                endpoint.remove(name)


def _renamed(document: Any, files: Sequence[str]) -> None:
    prompts, load = document.get("prompts"), document.get("load")
    named = [name for name in files if name != "times.csv"]
    if prompts is not None and "files" in prompts:
        if named:
            prompts["files"] = named
            if "sample" in prompts and "recorded.jsonl" in named:
                prompts.remove("sample")  # only what was drawn is there
        else:
            prompts["files"] = [_last(str(name)) for name in prompts["files"]]
    if load is not None and "times_file" in load:
        load["times_file"] = "times.csv" if "times.csv" in files else _last(str(load["times_file"]))


def _last(name: str) -> str:
    return name.replace("\\", "/").rpartition("/")[2] or "file"
