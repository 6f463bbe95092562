"""Settings of the person, and the folders the tool keeps things in, each with where its value is from."""

from __future__ import annotations

import os

from zinc_kettle.app.display import PREFERENCES
from zinc_kettle.config import HOME_VARIABLE, STORE_VARIABLE, Places
from zinc_kettle.core.problem import nearest
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.preferences import read_preferences, write_preference
from zinc_kettle.present.settings import SETTINGS, Row, setting_of, setting_rows


def rows(places: Places) -> list[Row]:
    """Settings, then folders.

    Raises:
        StudyFileError: The person's file cannot be used.
    """
    home = f"variable {HOME_VARIABLE}" if os.environ.get(HOME_VARIABLE) else "usual for this system"
    kept = f"variable {STORE_VARIABLE}" if os.environ.get(STORE_VARIABLE) else home
    folders = (
        ("data folder", places.home, home, f"everything below is in it; set {HOME_VARIABLE} for another"),
        ("store", places.store, kept, "what was measured; --store names another"),
        ("models", places.models, home, "model files; --models looks through a further folder"),
        ("studies", places.studies, home, "study files the shelf shows as ready"),
        ("exports", places.exports, home, "charts, reports, tables and bundles written from the screen"),
        ("others", places.others, home, "unpacked bundles of other people"),
        ("reports", places.reports, home, "how your reports are put together, and your words"),
        ("recipes", places.recipes, home, "engine recipes of your own"),
    )
    own = setting_rows(read_preferences(places.home / PREFERENCES))
    return [*own, *(Row("", title, str(path), origin, meaning) for title, path, origin, meaning in folders)]


def change(places: Places, key: str, text: str) -> None:
    """Set one; an empty text restores the default.

    Raises:
        UsageError: There is no such setting, or this is no value for it.
    """
    setting = setting_of(key)
    if setting is None:
        raise UsageError(f"there is no setting {key!r}", remedy=nearest(key, [s.key for s in SETTINGS]))
    value: str | float | None = text.strip() or None
    if value is not None and setting.declared.kind == "number":
        try:
            value = float(text.strip().replace(",", ""))
        except ValueError as error:
            raise UsageError(f"{text.strip()!r} is no number", remedy=f"{setting.key} = 12.5") from error
    if value is not None and setting.choices and value not in setting.choices:
        raise UsageError(f"{setting.key} cannot be {text.strip()!r}", remedy=nearest(text.strip(), setting.choices))
    file = places.home / PREFERENCES
    if setting.section == "pace" and value is not None:  # one way to say it at a time
        for other in ("tokens_per_s", "words_per_minute"):
            if other != setting.name:
                write_preference(file, "pace", other, None)
    write_preference(file, setting.section, setting.name, value)
