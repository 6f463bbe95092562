"""The screen. Here: stations, widgets, drawing in cells, the one table of actions.

Not here: figures (core, present), anything that measures (session) or keeps (store); both come through app.
May import: zinc_kettle.app, present, session, ports, wire, core, errors, textual, rich.
"""
