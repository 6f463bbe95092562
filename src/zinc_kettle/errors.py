"""Every error Zinc Kettle raises on purpose. Each says what happened, why, and what to try.

KettleError                      exit code
├── UsageError                   2   wrong usage or input
│   ├── StudyFileError           2   a study file or rig file, with its line
│   ├── ModelError               2   a model that is missing or cannot be made
│   ├── BundleError              2   a bundle that is damaged, or that is none
│   └── RunHeldError             2   a run that another copy of the tool is measuring
├── MeasureError                 1   measuring failed
│   ├── EngineError              1   the engine did not start, or ended
│   ├── EngineChangedError       1   it is another one than before
│   ├── DriverError              1   the load source broke its contract
│   └── RigError                 1   another machine could not be reached or asked
└── StoreError                   1   figures could not be kept
"""

from __future__ import annotations


class KettleError(Exception):
    """Base of all expected errors; shown to the person in two sentences, never as a traceback.

    Args:
        what: What happened, one clause.
        why: The cause as far as it is known; may be empty.
        remedy: What the person can try; may be empty.
        code: Which error it is, whatever its words are; that of its class where empty.
    """

    exit_code = 1
    kind = "failed"
    """Code of the errors of this class that have none of their own."""

    def __init__(self, what: str, *, why: str = "", remedy: str = "", code: str = "") -> None:
        super().__init__(what)
        self.code = code or self.kind
        self.what = what
        self.why = why
        self.remedy = remedy

    def __str__(self) -> str:
        parts = [self.what.rstrip(".") + "."]
        if self.why:
            parts.append(self.why[0].upper() + self.why[1:].rstrip(".") + ".")
        if self.remedy:
            parts.append("Try: " + self.remedy.rstrip(".") + ".")
        return " ".join(parts)


class UsageError(KettleError):
    """Wrong usage or wrong input; nothing was measured and nothing was lost."""

    kind = "usage"
    exit_code = 2


class StudyFileError(UsageError):
    """A study file that cannot be used.

    Args:
        what: What is wrong.
        file: Name of the file.
        line: Line counted from 1, or None where no line can be named.
        why: The cause.
        remedy: What to write instead.
    """

    kind = "file"

    def __init__(self, what: str, *, file: str, line: int | None = None, why: str = "", remedy: str = "") -> None:
        where = f"{file}:{line}" if line is not None else file
        super().__init__(f"{where}: {what}", why=why, remedy=remedy)
        self.file = file
        self.line = line
        self.others: tuple[StudyFileError, ...] = ()
        """What else is wrong with the file."""

    def __str__(self) -> str:
        return "\n".join([super().__str__(), *map(str, self.others)])


class ModelError(UsageError):
    """A model file that is missing, or that cannot be made."""

    kind = "model"


class BundleError(UsageError):
    """A bundle that is damaged, or a file that is none and claims to be.

    Args:
        file: Name of the file.
        what: What is wrong, a clause that follows the name.
        why: The cause.
        remedy: What to try; for a file that is spoilt there is only one thing.
    """

    kind = "bundle"

    def __init__(
        self, file: str, what: str, *, why: str = "", remedy: str = "have it packed and sent again", code: str = ""
    ) -> None:
        super().__init__(f"{file} {what}", why=why, remedy=remedy, code=code)


class RunHeldError(UsageError):
    """Another copy of the tool is measuring this run, or was a moment ago.

    Args:
        study: Name of the study.
        heartbeat_s: When the other one last said so, in seconds since 1970.
        lease_s: How long after that the run may be taken over.
    """

    kind = "run-held"

    def __init__(self, study: str, *, heartbeat_s: float, lease_s: float) -> None:
        super().__init__(f"{study} is being measured by another Zinc Kettle", remedy="wait for it, or stop it there")
        self.heartbeat_s = heartbeat_s
        self.lease_s = lease_s


class MeasureError(KettleError):
    """A measurement that failed."""

    kind = "measure"


class EngineError(MeasureError):
    """The engine did not start, did not get ready, or ended by itself.

    Args:
        what: What happened.
        last_words: The last lines the engine printed, already cleaned of terminal controls.
        why: The cause.
        remedy: What to try.
    """

    kind = "engine"

    def __init__(self, what: str, *, last_words: str = "", why: str = "", remedy: str = "") -> None:
        super().__init__(what, why=why, remedy=remedy)
        self.last_words = last_words


class EngineChangedError(MeasureError):
    """The engine of a run is another one than that which measured it before; nothing of the two is mixed."""

    kind = "engine-changed"


class DriverError(MeasureError):
    """The driver process ended, or said something that is not in the protocol."""

    kind = "driver"


class RigError(MeasureError):
    """Another machine that cannot be reached, or does not do what it is asked."""

    kind = "rig"


class StoreError(KettleError):
    """A measurement could not be written or read; the run stops rather than lose figures."""

    kind = "store"
