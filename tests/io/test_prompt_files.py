"""Prompts as they are named on Plan: files from anywhere, and typed text."""

from __future__ import annotations

from pathlib import Path

import pytest

from zinc_kettle.errors import UsageError
from zinc_kettle.formats.prompt_files import LONGEST_TYPED, brought


def test_files_from_anywhere_and_typed_text(tmp_path: Path) -> None:
    """Copied to the study, once, whatever else has the name there; typed text gets a file with its first words; what
    lies there already, or nowhere, keeps its name."""
    away, folder = tmp_path / "away", tmp_path / "studies"
    away.mkdir()
    folder.mkdir()
    (away / "night log.txt").write_text("The tide, again.")
    (folder / "calls.jsonl").write_text("{}\n")
    question = "Which quay, at noon, is free tomorrow?"
    said = f'{away}/night log.txt, calls.jsonl, "{question}", gone.txt, {folder}/calls.jsonl'
    names = brought(said, folder)
    typed = names[2]
    assert names == ["night-log.txt", "calls.jsonl", typed, "gone.txt", "calls.jsonl"]
    assert (folder / names[0]).read_text() == "The tide, again."
    assert (folder / typed).read_text() == f"{question}\n"
    assert typed.startswith("which-quay-at-noon") and len(typed) <= LONGEST_TYPED + len(".txt")
    assert brought(said, folder) == names and len(list(folder.iterdir())) == 3
    (away / "night log.txt").write_text("Another tide.")
    assert brought(f"{away}/night log.txt", folder) == ["night-log-2.txt"]
    assert brought("", folder) == [] == brought("  ", folder)


@pytest.mark.parametrize("said", ['"', '""', '" "', 'a.txt, "half', '"x" y', "~" * 3_000])
def test_what_cannot_be_read_is_refused_or_left(tmp_path: Path, said: str) -> None:
    """With a sentence; no file is left of it."""
    try:
        brought(said, tmp_path)
    except UsageError as error:
        assert error.what
    assert not list(tmp_path.iterdir())
