"""Charts of a run as files."""

from __future__ import annotations

from pathlib import Path

from zinc_kettle.core.chart import Chart
from zinc_kettle.errors import UsageError
from zinc_kettle.present.charts import build, offered
from zinc_kettle.present.charts.kinds import Subject

FORMATS = (".svg", ".pdf")


def write_chart(subject: Subject, out: Path, *, kind: str) -> None:
    """Draw one chart into a file; the same figures give the same bytes.

    Raises:
        UsageError: No such measure, kind or format, data that do not allow it, or a folder that cannot be written.
    """
    if out.suffix.lower() not in FORMATS:
        raise UsageError(f"{out.name} is neither .svg nor .pdf", remedy="choose one of these endings")
    _write(build(kind, subject), out)


def write_all(subject: Subject, folder: Path, stem: str) -> list[Path]:
    """Draw every kind of chart the data allow into a folder, each as SVG and PDF.

    Raises:
        UsageError: The folder cannot be written.
    """
    written = []
    for kind in offered(subject):
        chart = kind.build(subject)
        for ending in FORMATS:
            out = folder / f"{stem}-{kind.name}{ending}"
            _write(chart, out)
            written.append(out)
    return written


def _write(chart: Chart, out: Path) -> None:
    from zinc_kettle.charts.draw import draw

    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        out.write_bytes(draw(chart, out.suffix.lower().removeprefix(".")))
    except OSError as error:
        why = str(error.strerror)
        raise UsageError(f"{out.name} cannot be written", why=why, remedy="choose another place") from error
