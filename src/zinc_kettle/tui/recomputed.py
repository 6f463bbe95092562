"""A station whose content is computed in a thread: again when another study is open, or when more of it is measured."""

from __future__ import annotations

import asyncio
from typing import Generic, TypeVar

from zinc_kettle.errors import KettleError
from zinc_kettle.tui.station import Station

T = TypeVar("T")


class Recomputed(Station, Generic[T]):
    """What it shows is `result`, or `trouble`, which says why there is none."""

    result: T | None = None
    trouble = ""
    looked = False
    """True once it was computed, whatever came of it."""

    def compute(self) -> T:
        """What is shown; called in a thread, since it may read every request.

        Raises:
            KettleError: It cannot be had; its sentence is then shown in its place.
        """
        raise NotImplementedError

    async def computed(self) -> None:
        """Called with a new result, before it is drawn."""

    def on_mount(self) -> None:
        """Draw what stands before there is a result, and compute it."""
        self.redraw()
        self.recompute()

    def on_screen_resume(self) -> None:
        """Another study may be open, or more of it measured."""
        self.recompute()

    def on_resize(self) -> None:
        """Charts and bars are drawn to the size."""
        self.call_after_refresh(self.redraw)

    def cells_changed(self) -> None:
        """A repeat has ended."""
        self.recompute()

    def recompute(self) -> None:
        """Compute it again beside the screen; what stands is shown until then."""
        self.work(self._recomputed(), group="content")

    async def _recomputed(self) -> None:
        try:
            result = await asyncio.to_thread(self.compute)
        except KettleError as error:
            self.gave_up(str(error))
        else:
            self.result, self.trouble, self.looked = result, "", True
        if self.stands:
            await self.computed()
            self.redraw()

    def gave_up(self, said: str) -> None:
        """In place of the result."""
        self.result, self.trouble, self.looked = None, said, True
