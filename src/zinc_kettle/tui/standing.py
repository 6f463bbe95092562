"""Screens that are asked nothing while there is nothing to draw on: before they are put together, and when they go."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from textual.await_complete import AwaitComplete
from textual.css.query import NoMatches
from textual.widget import Widget

ASKED = ("on_", "action_")
"""How methods begin that the library calls: for messages, and for keys."""
AT_THE_END = frozenset({"on_unmount"})
"""Called when nothing stands any more, and meant for then."""


if TYPE_CHECKING:
    from textual.geometry import Offset
    from textual.screen import Screen

    _Base = Screen[Any]
else:
    # Not a widget of its own: the library takes a screen's style from its first base that is one, and a screen without
    # the style of screens leaves what stood before it where it has no widgets.
    _Base = object


class Standing(_Base):
    """What all our screens share: handlers and actions are called while the screen's own widgets are all there.

    A message may still wait in a screen's queue when the screen is taken away, widget by widget; and a key may reach it
    before its first widget does. Neither is an error.
    """

    _built = 0
    """How many widgets were put on it; 0 before that."""
    _dismissed = False
    _filled: Sequence[tuple[Widget, int]] = ()
    """Those of them that hold others, and how many each held."""

    def __init_subclass__(cls, **more: Any) -> None:
        """Guard what the library calls."""
        super().__init_subclass__(**more)
        for name, method in list(vars(cls).items()):
            if name.startswith(ASKED) and name not in AT_THE_END and inspect.isfunction(method):
                setattr(cls, name, _while_standing(method))

    async def mount_composed_widgets(self, widgets: list[Widget]) -> None:
        """Called by the library; from its end on there is something to draw on."""
        await super().mount_composed_widgets(widgets)
        self._built = len(widgets)
        self._filled = [(node, len(node.children)) for node in self.walk_children(Widget) if node.children]

    def get_widget_and_offset_at(self, x: int, y: int) -> tuple[Widget | None, Offset | None]:
        """As the library has it, but for a widget that is being taken away: it would select text in its parent."""
        widget, offset = super().get_widget_and_offset_at(x, y)
        return (None, None) if widget is not None and widget.parent is None else (widget, offset)

    def dismiss(self, result: Any = None) -> AwaitComplete:
        """As the library has it, but once: of keys typed ahead a second may answer what the first has answered."""
        over, self._dismissed = self._dismissed, self._dismissed or self.is_current
        gone: AwaitComplete = AwaitComplete() if over else super().dismiss(result)
        return gone

    @property
    def stands(self) -> bool:
        """True while there is something to draw on: neither being put together nor taken away."""
        return 0 < self._built <= len(self.children) and self.is_attached

    @property
    def whole(self) -> bool:
        """The same, looked at closer: once it goes, or the tool is left, widgets that hold others lose these first."""
        held = all(len(node.children) >= count for node, count in self._filled)
        return self.stands and held and self.app.is_running and self in self.app.screen_stack


def _while_standing(method: Callable[..., Any]) -> Callable[..., Any]:
    if inspect.iscoroutinefunction(method):

        @functools.wraps(method)
        async def asked_async(self: Standing, *given: Any) -> Any:
            if self.stands:
                try:
                    return await method(self, *given)
                except NoMatches:
                    if self.whole:
                        raise
            return None

        return asked_async

    @functools.wraps(method)
    def asked(self: Standing, *given: Any) -> Any:
        if self.stands:
            try:
                return method(self, *given)
            except NoMatches:
                if self.whole:
                    raise
        return None

    return asked
