"""Zinc Kettle measures how fast local language models run, and says how sure it is.

Rooms, from the top: cli, tui, app, (engines, rigs, link, store, charts, formats, config, sim),
(session, present, driver), ports, wire, core, errors. A room imports only rooms below it.
See docs/architecture.md.
"""

__version__ = "0.1.0"
