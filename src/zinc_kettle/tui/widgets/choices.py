"""A list to choose from, also where there is no room to show it.

The library's list wraps its lines to the width it has, which fails for a width of nothing, and looks for the line of
the chosen entry, which is not there while the list has no room.
"""

from __future__ import annotations

from textual.widgets import OptionList


class Choices(OptionList):
    """An option list that survives any size."""

    DEFAULT_CSS = "Choices { min-width: 12; }"

    def action_page_up(self) -> None:
        """A page up."""
        if self.scrollable_content_region:
            super().action_page_up()  # type: ignore[no-untyped-call]

    def action_page_down(self) -> None:
        """A page down."""
        if self.scrollable_content_region:
            super().action_page_down()  # type: ignore[no-untyped-call]
