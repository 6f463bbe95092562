"""A small canvas of braille dots: lines and bars in a few cells, no numpy, the app's own colours."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

_DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))
BLOCKS = " ▁▂▃▄▅▆▇█"


class Canvas:
    """Cells of 2 by 4 dots; dot (0, 0) is at the top left."""

    def __init__(self, columns: int, rows: int) -> None:
        self.columns = max(1, columns)
        self.rows = max(1, rows)
        self._cells = [[0] * self.columns for _ in range(self.rows)]

    @property
    def width(self) -> int:
        """Dots across."""
        return self.columns * 2

    @property
    def height(self) -> int:
        """Dots down."""
        return self.rows * 4

    def dot(self, x: int, y: int) -> None:
        """Set one dot; outside is ignored."""
        if 0 <= x < self.width and 0 <= y < self.height:
            self._cells[y // 4][x // 2] |= _DOTS[y % 4][x % 2]

    def lines(self) -> list[str]:
        """The rows as text."""
        return ["".join(chr(0x2800 + cell) if cell else " " for cell in row) for row in self._cells]


def bar(share: float, width: int, *, full: str, empty: str) -> Text:
    """A thin bar, filled to a share in [0, 1].

    Args:
        share: In [0, 1]; what is outside is cut.
        width: In characters.
        full: Colour of the filled part.
        empty: Colour of the rest.
    """
    share = min(1.0, max(0.0, share))
    filled = round(share * width)
    return Text.assemble(("━" * filled, full), ("━" * (width - filled), empty))


def columns_of(values: Sequence[float], width: int) -> str:
    """The newest values as block columns, scaled to the largest."""
    shown = list(values)[-width:]
    top = max(shown, default=0.0) or 1.0
    return "".join(BLOCKS[min(8, round(v / top * 8))] for v in shown).rjust(width)
