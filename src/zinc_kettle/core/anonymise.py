"""What names a person's machine, folders or secrets, out of everything that leaves it.

Texts are changed as little as can be: of a path its last name stays, of an address the word that there was one.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Any

from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.redact import redact

ADDRESS, HOST, KEY = "[address]", "[host]", "[key]"
LEAST_WORD = 3
"""A shorter name of a machine or a person would be found in ordinary words."""
COMMON = frozenset({"root", "user", "admin", "localhost", "here", "home", "this machine"})
"""Names so common that hiding them would only spoil texts."""
GONE = frozenset({"address", "reached", "key_variable", "key_file", "ca_file", "holder"})
"""Fields that hold nothing else than where a machine is, or where a key is."""

_URL = re.compile(r"\b[a-z][a-z0-9+.-]{1,15}://[^\s\"'<>|]+", re.IGNORECASE)
_KEYS = re.compile(
    r"(?i)\b(bearer\s+|(?:api[-_ ]?key|authorization|password|passwd|secret|access[-_ ]?token)\s*[=:]\s*)"
    r"(?:bearer\s+)?[^\s\"',;]+"
)
_MAIL = re.compile(r"\b[\w.+-]+@[\w-]+(?:\.[\w-]+)*")
_BYTE = r"(?:25[0-5]|2[0-4]\d|1?\d?\d)"
_IPV4 = re.compile(rf"(?<![\w.]){_BYTE}(?:\.{_BYTE}){{3}}(?::\d{{1,5}})?(?![\w.]*\w)")
_IPV6 = re.compile(
    r"(?i)(?<![\w:])(?:(?:[0-9a-f]{1,4}:){4,7}[0-9a-f]{1,4}|(?=[a-f:]*\d)[0-9a-f:]*::[0-9a-f:]+)(?![\w:])"
)
_PATH = re.compile(r"(?<![\w./\\-])(?:~[\w-]*|[A-Za-z]:)?[/\\](?:[^\s/\\:\"'<>|,;()]+[/\\])+([^\s/\\:\"'<>|,;()]*)")


class Anonymiser:
    """Takes out of texts and values what should not leave a machine.

    Args:
        words: Names to hide wherever they stand: of machines, of the person.
        secrets: Keys, in case a server sent one back and it was kept.
    """

    def __init__(self, words: Iterable[str] = (), secrets: Iterable[str] = ()) -> None:
        self._secrets = tuple(secrets)
        hidden = {w for w in words if len(w) >= LEAST_WORD and w.lower() not in COMMON}
        names = "|".join(re.escape(word) for word in sorted(hidden, key=len, reverse=True))
        self._words = re.compile(rf"(?i)(?<![\w-])(?:{names})(?![\w-])") if names else None
        self._models: dict[str, str] = {}

    def answer(self, text: str) -> str:
        """What an engine wrote, without keys; its other words are what was measured."""
        return redact(text, *self._secrets)

    def text(self, text: str) -> str:
        """A text without addresses, keys, folders and the names to hide."""
        text = redact(text, *self._secrets)
        text = _URL.sub(lambda found: f"{found[0].partition('://')[0]}://{ADDRESS}", text)
        text = _KEYS.sub(lambda found: found[1] + KEY, text)
        for pattern in (_MAIL, _IPV6, _IPV4):
            text = pattern.sub(ADDRESS, text)
        text = _PATH.sub(lambda found: f"…/{found[1]}" if found[1] else "…", text)
        return text if self._words is None else self._words.sub(HOST, text)

    def value(self, value: Any) -> Any:
        """A value as JSON has it, the same way all through; fields that only say where something is are left out."""
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, Mapping):
            return {self.text(str(k)): self.value(v) for k, v in value.items() if k not in GONE}
        if isinstance(value, list | tuple):
            return [self.value(part) for part in value]
        return value

    def level(self, level: Level) -> Level:
        """A level of a factor; a path to a model's file becomes its name, and two paths never the same one."""
        if not isinstance(level, str) or ("/" not in level and "\\" not in level):
            return level
        if level not in self._models:
            name = re.split(r"[/\\]", level.rstrip("/\\"))[-1] or "model"
            taken, count, free = set(self._models.values()), 1, name
            while free in taken:
                count += 1
                free = f"{name}-{count}"
            self._models[level] = free
        return self._models[level]

    def levels(self, levels: Mapping[str, Level]) -> dict[str, Level]:
        """Levels by factor."""
        return {name: self.level(level) for name, level in levels.items()}


class Nothing(Anonymiser):
    """Takes nothing out: for what stays on this machine."""

    def answer(self, text: str) -> str:
        """The text."""
        return text

    def text(self, text: str) -> str:
        """The text."""
        return text

    def level(self, level: Level) -> Level:
        """The level."""
        return level

    def value(self, value: Any) -> Any:
        """The value."""
        return value
