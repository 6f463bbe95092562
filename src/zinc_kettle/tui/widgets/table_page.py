"""The cells of a study as a table, over the map: one press a set of columns."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import DataTable, Static

from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.units import plural
from zinc_kettle.present.table import COLUMN_SETS, result_rows
from zinc_kettle.tui.standing import Standing

MOST_ROWS = 2_000
"""More than anyone scrolls through; each costs the time to build it before the page opens."""


class TablePage(Standing, ModalScreen[str | None]):
    """Shows what a map shows one measure at a time; gives back the key of the cell that is to be opened."""

    BINDINGS = [  # noqa: RUF012
        ("escape", "close", "close"),
        ("q", "close", "close"),
        ("n", "next_set", "other columns"),
        ("c", "copy", "copy"),
    ]
    DEFAULT_CSS = """
    TablePage { align: center middle; background: $background 60%; }
    TablePage > Vertical { width: 96%; height: 85%; background: $panel; padding: 1 2; border: round $border; }
    TablePage #set { color: $text; text-style: bold; height: 1; margin: 0 0 1 0; }
    TablePage DataTable { height: 1fr; background: $panel; }
    TablePage #close-hint { color: $text-muted; height: 1; margin: 1 0 0 0; }
    """

    def __init__(self, results: StudyResults) -> None:
        super().__init__()
        self._results = results
        self._set = 0

    def compose(self) -> ComposeResult:
        """What the columns are, the table, and its keys."""
        with Vertical():
            yield Static(id="set")
            yield DataTable(cursor_type="row", zebra_stripes=False)
            yield Static("n other columns · enter opens the cell · c copies · escape closes this", id="close-hint")

    def on_mount(self) -> None:
        """The first set."""
        self._fill()

    def _rows(self) -> tuple[Sequence[str], Sequence[Sequence[str]]]:
        names = list(COLUMN_SETS.values())[self._set] or None
        return result_rows(self._results, names, brief=True, most=MOST_ROWS)

    def _fill(self) -> None:
        heads, rows = self._rows()
        shown: DataTable[Text] = self.query_one(DataTable)
        shown.clear(columns=True)
        shown.add_columns(*heads)
        for cell, row in zip(self._results.cells, rows, strict=False):
            shown.add_row(*(Text(value) for value in row), key=cell.cell.key)
        more = len(self._results.cells) - len(rows)
        cut = f"; {plural(more, 'further cell')} in zinc-kettle show" if more > 0 else ""
        self.query_one("#set", Static).update(f"{list(COLUMN_SETS)[self._set].capitalize()}{cut}")

    def action_next_set(self) -> None:
        """Other columns."""
        self._set = (self._set + 1) % len(COLUMN_SETS)
        self._fill()

    def action_copy(self) -> None:
        """Copy the table as text."""
        heads, rows = self._rows()
        self.app.copy_to_clipboard("\n".join("\t".join(row) for row in (heads, *rows)))
        self.notify("The table is copied.")

    def on_data_table_row_selected(self, event: DataTable.RowSelected) -> None:
        """Open that cell."""
        self.dismiss(event.row_key.value)

    def action_close(self) -> None:
        """Close."""
        self.dismiss(None)
