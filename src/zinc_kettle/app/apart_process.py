"""The process that reads a file from elsewhere: `python -m zinc_kettle.app.apart_process FILE FOLDER`."""

from __future__ import annotations

import json
import math
import sys
import time
from pathlib import Path
from typing import Any

from zinc_kettle.app.apart import BASE_BYTES, TIMES_SIZE, seconds_for
from zinc_kettle.app.store_import import import_store
from zinc_kettle.app.unpacking import into_store
from zinc_kettle.errors import KettleError
from zinc_kettle.formats.bundle.archive import ENDING


def bound_memory(size: int) -> None:
    """Let this process take no more memory than reading a file of a size needs, on top of what its libraries have."""
    _warm_up()
    limit = _data_bytes() + BASE_BYTES + TIMES_SIZE * size
    try:
        import resource
    except ImportError:
        return  # not on this system: the checks of the format are what there is
    resource.setrlimit(resource.RLIMIT_DATA, (limit, limit))


def bound_time(seconds: float) -> None:
    """Let this process take so much more processor time; then it ends."""
    try:
        import resource
    except ImportError:
        return  # not on this system: there is the clock
    last = math.ceil(time.process_time() + seconds)
    resource.setrlimit(resource.RLIMIT_CPU, (last, last + 1))


def _warm_up() -> None:
    """Load what will be needed, and have the numerics take their work space now: that is not the file's doing."""
    import numpy as np
    import pyarrow as pa
    from pyarrow import parquet  # noqa: F401 - loaded before the limit holds
    from scipy import optimize, special, stats  # noqa: F401

    pa.set_cpu_count(1)
    pa.set_io_thread_count(1)
    rng = np.random.default_rng(1)
    square = rng.normal(size=(96, 96))
    np.linalg.lstsq(square, square[0], rcond=None)
    np.linalg.svd(square @ square.T)
    stats.t.ppf(0.975, 9)


def main() -> int:
    """Read, and say in one line of JSON what was found or what is wrong."""
    path, folder = Path(sys.argv[1]), Path(sys.argv[2])
    bound_memory(path.stat().st_size)
    bound_time(seconds_for(path.stat().st_size))
    read = into_store if path.suffix == ENDING else import_store
    try:
        told: dict[str, Any] = {"runs": read(path, folder)}
        code = 0
    except KettleError as error:
        told, code = {"what": error.what, "why": error.why, "remedy": error.remedy, "code": error.code}, 2
    except MemoryError:
        told, code = (
            {
                "what": f"{path.name} takes more memory than a file of its size needs",
                "why": "",
                "remedy": "have it written and sent again",
            },
            2,
        )
    except Exception as error:  # noqa: BLE001 - the top of a process that reads what nobody has checked
        told, code = (
            {
                "what": f"{path.name} holds something that cannot be",
                "why": type(error).__name__,
                "remedy": "have it written and sent again",
            },
            2,
        )
    sys.stdout.write(json.dumps(told))
    return code


def _data_bytes() -> int:
    """Private memory of this process now."""
    try:
        lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
        return next(int(line.split()[1]) << 10 for line in lines if line.startswith("VmData:"))
    except (OSError, StopIteration, ValueError):
        return 256 << 20


if __name__ == "__main__":
    sys.exit(main())
