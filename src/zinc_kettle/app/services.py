"""Everything a person can do, by what it is about; the screen, the command line and the plain mode use the same.

Each service is made when it is first asked for: the first paint waits for none that it does not need.
"""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.app.display import speak, worn
from zinc_kettle.app.stores import Stores
from zinc_kettle.config import Places

if TYPE_CHECKING:
    from zinc_kettle.app.comparison_service import ComparisonService
    from zinc_kettle.app.export_service import ExportService
    from zinc_kettle.app.plan_service import PlanService
    from zinc_kettle.app.rig_service import RigService
    from zinc_kettle.app.serving import Serving
    from zinc_kettle.app.study_service import StudyService
    from zinc_kettle.core.health import Check
    from zinc_kettle.core.preferences import Preferences
    from zinc_kettle.present.settings import Row


class Services:
    """The services of one person.

    Args:
        places: The person's folders.
        extra_studies: Study files that the shelf shows besides.
    """

    def __init__(self, places: Places, *, extra_studies: list[Path] | None = None) -> None:
        self._places = places
        self._extra = extra_studies or []
        self._stores = Stores(places)

    @cached_property
    def studies(self) -> StudyService:
        """Studies and their runs."""
        from zinc_kettle.app.study_service import StudyService

        return StudyService(self._places, self._stores, lambda: self.rigs, self._extra)

    @cached_property
    def rigs(self) -> RigService:
        """Machines, and what fits on them."""
        from zinc_kettle.app.rig_service import RigService

        return RigService(self._places, lambda: self._stores.own)

    @cached_property
    def plans(self) -> PlanService:
        """Plans."""
        from zinc_kettle.app.plan_service import PlanService

        return PlanService(self._places, self.studies, lambda: self.rigs)

    @cached_property
    def comparisons(self) -> ComparisonService:
        """Comparing, drawing and ranking."""
        from zinc_kettle.app.comparison_service import ComparisonService

        return ComparisonService(
            self._places, self._stores.listed, self._stores.of, lambda: self.rigs, self._stores.elsewhere
        )

    @cached_property
    def exports(self) -> ExportService:
        """Reports, charts, tables and bundles."""
        from zinc_kettle.app.export_service import ExportService

        return ExportService(self._places, self._stores, self.comparisons, lambda: self.rigs)

    @cached_property
    def serving(self) -> Serving:
        """The engine that serves other programs, where there is one."""
        from zinc_kettle.app.serving import Serving

        return Serving(self._places)

    def newcomer(self) -> bool:
        """True where the person's data folder is not there, or empty."""
        home = self._places.home
        try:
            return not self._places.demo and not (home.is_dir() and any(home.iterdir()))
        except OSError:
            return False  # the shelf says what is wrong with it

    def write_down(self, error: BaseException) -> str:
        """Write an unexpected error into the log; returns where that is."""
        from zinc_kettle.config.log import log_error

        return log_error(self._places.log, error)

    def checks(self) -> list[Check]:
        """Check this machine."""
        from zinc_kettle.app.doctor import examine

        return examine(self._places, driver=False)

    def preferences(self) -> Preferences:
        """The person's own figures."""
        from zinc_kettle.app.charting import preferences

        return preferences(self._places)

    def theme(self) -> str:
        """As the person has set it; read by itself, since the first paint waits for it."""
        return worn(self._places)

    def settings(self) -> list[Row]:
        """What can be set, and the folders."""
        from zinc_kettle.app.settings import rows

        return rows(self._places)

    def set_preference(self, key: str, text: str) -> None:
        """Set one of them.

        Raises:
            UsageError: This is no value for it.
        """
        from zinc_kettle.app.settings import change

        change(self._places, key, text)
        speak(self._places)

    async def close(self) -> None:
        """Let go of rigs that were asked, and end the engine that serves."""
        if "serving" in vars(self):
            await self.serving.end()
        if "rigs" in vars(self):
            await self.rigs.close()
