"""A gate as JUnit XML, which build servers show: a test for each measure."""

from __future__ import annotations

from pathlib import Path

from junitparser import Error, Failure, JUnitXml, Skipped, TestCase, TestSuite

from zinc_kettle.core.compare.gate import Gate
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.errors import UsageError
from zinc_kettle.present.duel import side_title
from zinc_kettle.present.gate import gate_lines, gate_sentence, guarded_sentence


def write_junit(gate: Gate, path: Path, *, took_s: float, open_passes: bool) -> None:
    """Write a gate as JUnit XML.

    Args:
        gate: What came of it.
        path: The file.
        took_s: How long it measured.
        open_passes: What is not settled is skipped; otherwise it is an error.

    Raises:
        UsageError: The file cannot be written.
    """
    suite = TestSuite(f"gate {side_title(gate.duel.b)} against {side_title(gate.duel.a)}")
    suite.add_property("worse_than", f"{gate.worse_than:g}")
    for guarded in gate.guarded:
        case = TestCase(MEASURES[guarded.measure].title, "zinc-kettle.gate", took_s / len(gate.guarded))
        said = guarded_sentence(guarded, gate.worse_than)
        if gate.failed:
            case.result = [Error(gate_sentence(gate), "not measured")]
        elif guarded.verdict == "worse":
            case.result = [Failure(said, "worse")]
        elif guarded.verdict == "open":
            case.result = [Skipped(said) if open_passes else Error(said, "not settled")]
        case.system_out = "\n".join([said, *gate_lines(gate)])
        suite.add_testcase(case)
    file = JUnitXml()
    file.add_testsuite(suite)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        file.write(str(path), pretty=True)
    except OSError as error:
        raise UsageError(
            f"{path.name} cannot be written", why=str(error.strerror), remedy="choose another place"
        ) from error
