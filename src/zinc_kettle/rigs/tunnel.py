"""Forwards one port from another machine: a process of its own, so that neither screen nor store can delay a byte.

Started as `python -m zinc_kettle.rigs.tunnel`; reads one JSON line with host, config and port, prints one with the
address here, and ends when its standard input closes.
"""

from __future__ import annotations

import asyncio
import json
import sys

from zinc_kettle.errors import RigError
from zinc_kettle.rigs.ssh import connect


async def main() -> None:
    """Forward until standard input closes."""
    order = json.loads(sys.stdin.readline())
    try:
        connection = await connect(str(order["host"]), order.get("config"))
        listener = await connection.forward_local_port("127.0.0.1", 0, "127.0.0.1", int(order["port"]))
    except (RigError, OSError) as error:
        sys.stdout.write(json.dumps({"error": str(error)}) + "\n")
        return
    sys.stdout.write(json.dumps({"address": f"http://127.0.0.1:{listener.get_port()}"}) + "\n")
    sys.stdout.flush()
    await asyncio.get_running_loop().run_in_executor(None, sys.stdin.read)
    connection.close()


if __name__ == "__main__":
    asyncio.run(main())
