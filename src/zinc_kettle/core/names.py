"""The one rule for names that become part of a file's name: of studies, bundles, reports, rigs and recipes."""

from __future__ import annotations

import re

LONGEST_NAME = 64
LONGEST_SHORT_NAME = 32
"""Of rigs and recipes, which stand in narrow columns."""
LONGEST_STEM = 80
NAME_HINT = "small letters, digits and hyphens"
_OTHER = re.compile(r"[^a-z0-9]+")


def name_pattern(longest: int = LONGEST_NAME) -> str:
    """A regular expression of the names: no separator, no dot, nothing a file system reads as something else."""
    return rf"^[a-z0-9][a-z0-9-]{{0,{longest - 1}}}$"


def is_name(text: object, *, longest: int = LONGEST_NAME) -> bool:
    """True for a text that may be a name."""
    return isinstance(text, str) and re.match(name_pattern(longest).removesuffix("$") + r"\Z", text) is not None


def recipe_name_problem(text: str) -> str:
    """What is wrong with the name of a recipe or a rig; empty where nothing is."""
    return "" if is_name(text, longest=LONGEST_SHORT_NAME) else NAME_HINT


def name_from(text: str, *, otherwise: str, longest: int = LONGEST_NAME) -> str:
    """A name made of what a text says.

    Args:
        text: Any text.
        otherwise: The name where the text holds neither a letter nor a digit of ASCII.
        longest: Characters it may have.
    """
    return _OTHER.sub("-", text.lower()).strip("-")[:longest].strip("-") or otherwise


def file_stem(text: str) -> str:
    """A name for a file that is written: letters, digits, dots, - and _ of a text."""
    return re.sub(r"[^\w.-]+", "-", text)[:LONGEST_STEM].strip("-.")
